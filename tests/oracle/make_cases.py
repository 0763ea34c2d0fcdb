#!/usr/bin/python3
"""Writes conformance cases for what the packaged data (opset 17) does not cover: newer versions of operators, dtypes and
parameters. Expected outputs come from numpy in float64, written from the standard's text; nothing here knows the engine.

Usage: make_cases.py OUT_DIR"""
import os
import sys

import numpy as np

sys.path.insert(0, os.path.join(os.path.dirname(os.path.abspath(__file__)), "..", "..", "demo", "make"))
import onnx_wire as wire  # noqa: E402

rng = np.random.default_rng(11)
count = 0


def case(name, op, inputs, expected, opset, constants=None, **attributes):
    """inputs: dict name -> array (None: left out). constants: names among them that are stored as initializers."""
    global count
    constants = constants or []
    folder = os.path.join(sys.argv[1], name)
    os.makedirs(os.path.join(folder, "test_data_set_0"), exist_ok=True)
    expected = expected if isinstance(expected, (list, tuple)) else [expected]
    outs = [f"y{i}" for i in range(len(expected))]
    given = {k: v for k, v in inputs.items() if v is not None}
    fed = [k for k in given if k not in constants]
    nodes = [wire.node(op, [k if v is not None else "" for k, v in inputs.items()], outs, **attributes)]
    model = wire.model(name, nodes, [wire.value(k, str(given[k].dtype), given[k].shape) for k in fed],
                       [wire.value(o, str(e.dtype), e.shape) for o, e in zip(outs, expected)],
                       {k: given[k] for k in constants}, opset=opset)
    with open(os.path.join(folder, "model.onnx"), "wb") as f:
        f.write(model)
    for kind, arrays in (("input", [(k, given[k]) for k in fed]), ("output", list(zip(outs, expected)))):
        for i, (k, array) in enumerate(arrays):
            with open(os.path.join(folder, "test_data_set_0", f"{kind}_{i}.pb"), "wb") as f:
                f.write(wire.tensor(array, k))
    count += 1


def f32(*shape, low=-2.0, high=2.0):
    return rng.uniform(low, high, shape).astype(np.float32)


def both(name, op, inputs, expected, opset, constants, **attributes):
    """Once with the parameters as constants (shapes known while compiling), once as inputs (known at run time)."""
    case(name + "_constant", op, inputs, expected, opset, constants, **attributes)
    case(name + "_fed", op, inputs, expected, opset, [], **attributes)


# ---- reductions: axes as an input (18; ReduceSum from 13) ----
x = f32(3, 4, 5)
d = x.astype(np.float64)
reductions = {
    "ReduceMean": lambda a, ax, k: a.mean(axis=ax, keepdims=k),
    "ReduceMax": lambda a, ax, k: a.max(axis=ax, keepdims=k),
    "ReduceMin": lambda a, ax, k: a.min(axis=ax, keepdims=k),
    "ReduceProd": lambda a, ax, k: a.prod(axis=ax, keepdims=k),
    "ReduceL1": lambda a, ax, k: np.abs(a).sum(axis=ax, keepdims=k),
    "ReduceL2": lambda a, ax, k: np.sqrt((a * a).sum(axis=ax, keepdims=k)),
    "ReduceSumSquare": lambda a, ax, k: (a * a).sum(axis=ax, keepdims=k),
    "ReduceSum": lambda a, ax, k: a.sum(axis=ax, keepdims=k),
    "ReduceLogSumExp": lambda a, ax, k: np.log(np.exp(a).sum(axis=ax, keepdims=k)),
}
for op, f in reductions.items():
    for axes in ([0], [1], [-1], [0, 2], [1, 2], [0, 1, 2]):
        for keep in (0, 1):
            tag = f"{op.lower()}_18_axes_{'_'.join(str(a % 3) for a in axes)}_keep{keep}"
            both(tag, op, {"x": x, "axes": np.array(axes, np.int64)}, np.asarray(f(d, tuple(axes), bool(keep)), np.float32), 18, ["axes"], keepdims=keep)
case("reduce_noop", "ReduceSum", {"x": x, "axes": np.array([], np.int64)}, x, 18, ["axes"], noop_with_empty_axes=1)
case("reduce_empty_axes_is_all", "ReduceMax", {"x": x, "axes": None}, d.max(keepdims=True).astype(np.float32), 18)
positive = f32(3, 4, low=0.1)
case("reducelogsum_18", "ReduceLogSum", {"x": positive, "axes": np.array([1], np.int64)}, np.log(positive.astype(np.float64).sum(1, keepdims=True)).astype(np.float32), 18)
for dtype in (np.int32, np.int64, np.uint32, np.uint64):
    whole = rng.integers(0, 50, (4, 6)).astype(dtype)
    for op, f in (("ReduceSum", np.sum), ("ReduceMax", np.max), ("ReduceMin", np.min), ("ReduceProd", np.prod)):
        case(f"{op.lower()}_{np.dtype(dtype).name}", op, {"x": whole, "axes": np.array([1], np.int64)}, np.asarray(f(whole, axis=1, keepdims=True)).astype(dtype), 18)

# ---- activations of newer versions ----
erf = np.vectorize(__import__("math").erf)
x = f32(4, 33, low=-5, high=5)
d = x.astype(np.float64)
case("gelu_20", "Gelu", {"x": x}, (0.5 * d * (1 + erf(d / np.sqrt(2)))).astype(np.float32), 20)
case("gelu_20_tanh", "Gelu", {"x": x}, (0.5 * d * (1 + np.tanh(np.sqrt(2 / np.pi) * (d + 0.044715 * d ** 3)))).astype(np.float32), 20, approximate="tanh")
case("hardswish_22", "HardSwish", {"x": x}, (d * np.clip(d / 6 + 0.5, 0, 1)).astype(np.float32), 22)
case("mish_22", "Mish", {"x": x}, (d * np.tanh(np.log1p(np.exp(d)))).astype(np.float32), 22)
case("elu_22", "Elu", {"x": x}, np.where(d < 0, 1.5 * np.expm1(d), d).astype(np.float32), 22, alpha=1.5)
for dtype, name in ((np.float16, "f16"), (np.float64, "f64")):
    n = x.astype(dtype)
    w = n.astype(np.float64)
    case(f"sigmoid_{name}", "Sigmoid", {"x": n}, (1 / (1 + np.exp(-w))).astype(dtype), 13)
    case(f"softmax_{name}", "Softmax", {"x": n}, (np.exp(w) / np.exp(w).sum(-1, keepdims=True)).astype(dtype), 13)
    case(f"add_{name}", "Add", {"a": n, "b": n[:1]}, (w + w[:1]).astype(dtype), 14)
    case(f"matmul_{name}", "MatMul", {"a": n[:, :8], "b": n.T[:8]}, (w[:, :8] @ w.T[:8]).astype(dtype), 13)
    case(f"relu_{name}", "Relu", {"x": n}, np.maximum(n, 0), 14)
    case(f"transpose_{name}", "Transpose", {"x": n}, np.ascontiguousarray(n.T), 21)

# ---- integer arithmetic of every width ----
for dtype in (np.int8, np.int16, np.int32, np.int64, np.uint8, np.uint16, np.uint32, np.uint64):
    info = np.iinfo(dtype)
    a = rng.integers(info.min, info.max, (3, 5), dtype=dtype, endpoint=True)
    b = rng.integers(1, 7, (5,)).astype(dtype)
    name = np.dtype(dtype).name
    with np.errstate(over="ignore"):
        case(f"add_{name}", "Add", {"a": a, "b": b}, a + b, 14)
        case(f"sub_{name}", "Sub", {"a": a, "b": b}, a - b, 14)
        case(f"mul_{name}", "Mul", {"a": a, "b": b}, a * b, 14)
    case(f"div_{name}", "Div", {"a": a, "b": b}, np.array([[int(abs(int(p)) // int(q)) * (-1 if p < 0 else 1) for p, q in zip(r, b)] for r in a], dtype), 14)
    case(f"max_{name}", "Max", {"a": a, "b": b}, np.maximum(a, b), 13)
    case(f"less_{name}", "Less", {"a": a, "b": b}, a < b, 13)
    case(f"equal_{name}", "Equal", {"a": a, "b": a}, a == a, 19)
    case(f"concat_{name}", "Concat", {"a": a, "b": a}, np.concatenate([a, a], 1), 13, axis=1)
    case(f"where_{name}", "Where", {"c": a > b, "a": a, "b": b}, np.where(a > b, a, np.broadcast_to(b, a.shape)), 16)

# ---- movement of newer versions ----
x = f32(2, 5, 6)
both("split_18_uneven", "Split", {"x": x}, [x[:, :2], x[:, 2:4], x[:, 4:]], 18, [], axis=1, num_outputs=3)
both("split_18_sizes", "Split", {"x": x, "split": np.array([1, 4], np.int64)}, [x[:, :1], x[:, 1:]], 18, ["split"], axis=1)
both("pad_18_axes", "Pad", {"x": x, "pads": np.array([1, 2], np.int64), "value": np.array(0.5, np.float32), "axes": np.array([-1], np.int64)},
     np.pad(x, ((0, 0), (0, 0), (1, 2)), constant_values=0.5), 18, ["pads", "value", "axes"])
for mode, numpy_mode in (("reflect", "reflect"), ("edge", "edge"), ("wrap", "wrap")):
    both(f"pad_19_{mode}", "Pad", {"x": x, "pads": np.array([0, 2, 1, 1, 0, 3], np.int64)}, np.pad(x, ((0, 1), (2, 0), (1, 3)), mode=numpy_mode), 19, ["pads"], mode=mode)
both("reshape_19_allowzero", "Reshape", {"x": np.zeros((0, 3), np.float32), "shape": np.array([3, 0], np.int64)}, np.zeros((3, 0), np.float32), 19, ["shape"], allowzero=1)
case("shape_19_part", "Shape", {"x": x}, np.array([5, 6], np.int64), 19, start=1)
both("slice_13_backwards", "Slice", {"x": x, "s": np.array([-1, 4], np.int64), "e": np.array([-100, 0], np.int64), "a": np.array([2, 1], np.int64), "t": np.array([-2, -1], np.int64)},
     np.ascontiguousarray(x[:, 4:0:-1, ::-2]), 13, ["s", "e", "a", "t"])
both("gather_13", "Gather", {"x": x, "i": np.array([[0, -1], [2, 4]], np.int64)}, np.take(x, np.array([[0, 4], [2, 4]]), axis=1), 13, ["i"], axis=1)
e = f32(3, 1)
both("expand_13", "Expand", {"x": e, "shape": np.array([2, 1, 4], np.int64)}, np.array(np.broadcast_to(e, (2, 3, 4))), 13, ["shape"])
both("tile_13", "Tile", {"x": x, "repeats": np.array([2, 1, 3], np.int64)}, np.tile(x, (2, 1, 3)), 13, ["repeats"])
order = np.argsort(-x, axis=-1, kind="stable")[..., :3]
both("topk_11", "TopK", {"x": x, "k": np.array([3], np.int64)}, [np.take_along_axis(x, order, -1), order.astype(np.int64)], 11, ["k"])

# ---- windows ----


def convolve(x, w, stride, pad, dilation=(1, 1), group=1):
    x, w = x.astype(np.float64), w.astype(np.float64)
    xp = np.pad(x, ((0, 0), (0, 0), (pad[0], pad[2]), (pad[1], pad[3])))
    kh, kw = w.shape[2:]
    oh = (xp.shape[2] - (kh - 1) * dilation[0] - 1) // stride[0] + 1
    ow = (xp.shape[3] - (kw - 1) * dilation[1] - 1) // stride[1] + 1
    y = np.zeros((x.shape[0], w.shape[0], oh, ow))
    cg, fg = w.shape[1], w.shape[0] // group
    for g in range(group):
        for i in range(kh):
            for j in range(kw):
                patch = xp[:, g * cg:(g + 1) * cg, i * dilation[0]:, j * dilation[1]:][:, :, :stride[0] * (oh - 1) + 1:stride[0], :stride[1] * (ow - 1) + 1:stride[1]]
                y[:, g * fg:(g + 1) * fg] += np.einsum("nchw,fc->nfhw", patch, w[g * fg:(g + 1) * fg, :, i, j])
    return y


for name, xs, ws, stride, pad, dilation, group in (
        ("plain", (1, 8, 9, 10), (6, 8, 3, 3), (1, 1), (1, 1, 1, 1), (1, 1), 1), ("strided", (2, 8, 9, 10), (6, 8, 3, 3), (2, 2), (1, 1, 1, 1), (1, 1), 1),
        ("dilated", (1, 9, 12, 12), (4, 9, 3, 3), (1, 1), (2, 2, 2, 2), (2, 2), 1), ("grouped", (1, 12, 7, 7), (18, 4, 3, 3), (1, 1), (0, 0, 0, 0), (1, 1), 3),
        ("depthwise", (1, 20, 9, 9), (20, 1, 3, 3), (2, 2), (1, 1, 1, 1), (1, 1), 20), ("pointwise", (2, 33, 5, 5), (40, 33, 1, 1), (1, 1), (0, 0, 0, 0), (1, 1), 1),
        ("first_layer", (1, 3, 20, 22), (16, 3, 7, 7), (2, 2), (3, 3, 3, 3), (1, 1), 1), ("uneven_pads", (1, 3, 8, 8), (5, 3, 2, 4), (1, 2), (0, 1, 2, 3), (1, 1), 1)):
    a, w, b = f32(*xs), f32(*ws, low=-0.5, high=0.5), f32(ws[0])
    y = (convolve(a, w, stride, pad, dilation, group) + b.astype(np.float64)[:, None, None]).astype(np.float32)
    both(f"conv_{name}", "Conv", {"x": a, "w": w, "b": b}, y, 22, ["w", "b"], kernel_shape=list(ws[2:]), strides=list(stride), pads=list(pad), dilations=list(dilation), group=group)

a = f32(1, 3, 10, 10)
windows = lambda k, dil: np.stack([a[:, :, i * dil:10 - (k - 1 - i) * dil, j * dil:10 - (k - 1 - j) * dil] for i in range(k) for j in range(k)])
case("averagepool_19_dilated", "AveragePool", {"x": a}, windows(3, 2).astype(np.float64).mean(0).astype(np.float32), 19, kernel_shape=[3, 3], dilations=[2, 2])
case("maxpool_12_dilated", "MaxPool", {"x": a}, windows(2, 3).max(0), 12, kernel_shape=[2, 2], dilations=[3, 3])
case("globalaveragepool_22", "GlobalAveragePool", {"x": a}, a.astype(np.float64).mean((2, 3), keepdims=True).astype(np.float32), 22)

# ---- normalisation ----
x = f32(3, 4, 16)
d = x.astype(np.float64)
for axis in (-1, 1):
    axes = (2,) if axis == -1 else (1, 2)
    s, b = f32(*x.shape[axes[0]:]), f32(*x.shape[axes[0]:])
    mean, var = d.mean(axes, keepdims=True), d.var(axes, keepdims=True)
    inverse = 1 / np.sqrt(var + 1e-5)
    case(f"layernorm_17_axis{axis}".replace("-", "m"), "LayerNormalization", {"x": x, "s": s, "b": b}, ((d - mean) * inverse * s + b).astype(np.float32), 17, ["s", "b"], axis=axis)
    case(f"layernorm_17_axis{axis}_all".replace("-", "m"), "LayerNormalization", {"x": x, "s": s, "b": b},
         [((d - mean) * inverse * s + b).astype(np.float32), mean.astype(np.float32), inverse.astype(np.float32)], 17, axis=axis)
params = [f32(4, low=0.5), f32(4), f32(4), f32(4, low=0.5)]
column = lambda v: v.astype(np.float64)[:, None]
case("batchnorm_15", "BatchNormalization", dict(zip(("x", "s", "b", "m", "v"), [x] + params)),
     ((d - column(params[2])) / np.sqrt(column(params[3]) + 1e-5) * column(params[0]) + column(params[1])).astype(np.float32), 15)

# ---- resize ----
x = f32(1, 2, 4, 5)


def linear(a, axis, size):
    n = a.shape[axis]
    at = np.clip((np.arange(size) + 0.5) * n / size - 0.5, 0, n - 1)
    low = np.floor(at).astype(int)
    high = np.minimum(low + 1, n - 1)
    w = (at - low).reshape([-1 if i == axis else 1 for i in range(a.ndim)])
    return np.take(a, low, axis) * (1 - w) + np.take(a, high, axis) * w


up = linear(linear(x.astype(np.float64), 2, 8), 3, 10).astype(np.float32)
both("resize_18_axes_sizes", "Resize", {"x": x, "roi": None, "scales": None, "sizes": np.array([8, 10], np.int64)}, up, 18, ["sizes"], mode="linear", axes=[2, 3])
both("resize_19_scales", "Resize", {"x": x, "roi": None, "scales": np.array([1, 1, 2, 2], np.float32)}, up, 19, ["scales"], mode="linear")
both("resize_13_nearest", "Resize", {"x": x, "roi": None, "scales": np.array([1, 1, 2, 3], np.float32)}, x.repeat(2, 2).repeat(3, 3), 13, ["scales"], mode="nearest", coordinate_transformation_mode="asymmetric", nearest_mode="floor")
both("resize_18_not_larger", "Resize", {"x": x, "roi": None, "scales": None, "sizes": np.array([8, 20], np.int64)}, x.repeat(2, 2).repeat(2, 3), 18, ["sizes"],
     mode="nearest", axes=[2, 3], keep_aspect_ratio_policy="not_larger", coordinate_transformation_mode="asymmetric", nearest_mode="floor")

# ---- casts ----
x = np.array([0.0, 1.5, -2.5, 3.999, -0.4, 100.7], np.float32)
for dtype in (np.int8, np.int32, np.int64, np.uint8, np.float16, np.float64, np.bool_):
    source = np.abs(x) if dtype == np.uint8 else x
    case(f"cast_f32_{np.dtype(dtype).name}", "Cast", {"x": source}, source.astype(dtype), 21, to=wire.DTYPES[str(np.dtype(dtype))])
for dtype in (np.int32, np.uint8, np.float16, np.bool_):
    source = np.array([0, 1, 1, 0], dtype)
    case(f"cast_{np.dtype(dtype).name}_f32", "Cast", {"x": source}, source.astype(np.float32), 21, to=1)

print(f"{count} cases written")
