#!/usr/bin/python3
"""Writes conformance cases for what the packaged data (opset 17) does not cover: newer versions of operators, dtypes and
parameters. Expected outputs come from numpy in float64, written from the standard's text; nothing here knows the engine.

Usage: make_cases.py OUT_DIR"""
import sys

import numpy as np

from harness import both, case, f32, rng, wire
import harness

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
case("batchnorm_15_newest", "BatchNormalization", dict(zip(("x", "s", "b", "m", "v"), [x] + params)),
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

# ---- old versions: parameters that were attributes before they became inputs ----
x = f32(2, 3, 4)
d = x.astype(np.float64)
case("squeeze_7", "Squeeze", {"x": x[:, None]}, x, 7, axes=[1])
case("squeeze_11_negative", "Squeeze", {"x": x[..., None]}, x, 11, axes=[-1])
case("unsqueeze_7", "Unsqueeze", {"x": x}, x[None, :, None], 7, axes=[0, 2])
case("clip_7", "Clip", {"x": x}, np.clip(x, -0.5, 0.75), 7, min=-0.5, max=0.75)
case("clip_7_one_sided", "Clip", {"x": x}, np.minimum(x, np.float32(0.75)), 7, max=0.75)
both("clip_11", "Clip", {"x": x, "low": np.array(-0.5, np.float32), "high": np.array(0.75, np.float32)}, np.clip(x, np.float32(-0.5), np.float32(0.75)), 11, ["low", "high"])
both("clip_12_i32", "Clip", {"x": np.arange(-5, 5, dtype=np.int32), "low": np.array(-2, np.int32), "high": np.array(3, np.int32)}, np.clip(np.arange(-5, 5, dtype=np.int32), -2, 3), 12, ["low", "high"])
case("pad_7", "Pad", {"x": x}, np.pad(x, ((0, 1), (2, 0), (1, 1)), constant_values=1.5), 7, pads=[0, 2, 1, 1, 0, 1], value=1.5)
case("pad_7_reflect", "Pad", {"x": x}, np.pad(x, ((0, 0), (1, 1), (2, 2)), mode="reflect"), 7, pads=[0, 1, 2, 0, 1, 2], mode="reflect")
case("slice_7", "Slice", {"x": x}, np.ascontiguousarray(x[:, 1:3, :-1]), 7, starts=[1, 0], ends=[3, -1], axes=[1, 2])
case("slice_7_all_axes", "Slice", {"x": x}, np.ascontiguousarray(x[0:1, 1:9]), 7, starts=[0, 1], ends=[1, 9])
case("split_7_equal", "Split", {"x": x}, [np.ascontiguousarray(p) for p in np.split(x, 2, 2)], 7, axis=2)
case("split_11_sizes", "Split", {"x": x}, [np.ascontiguousarray(x[:, :1]), np.ascontiguousarray(x[:, 1:])], 11, axis=1, split=[1, 2])
order = np.argsort(-x, axis=1, kind="stable")[:, :2]
case("topk_7", "TopK", {"x": x}, [np.take_along_axis(x, order, 1), order.astype(np.int64)], 7, axis=1, k=2)
both("topk_10", "TopK", {"x": x, "k": np.array([2], np.int64)}, [np.take_along_axis(x, order, 1), order.astype(np.int64)], 10, ["k"], axis=1)
low = np.argsort(x, axis=2, kind="stable")[..., :2]
both("topk_11_smallest", "TopK", {"x": x, "k": np.array([2], np.int64)}, [np.take_along_axis(x, low, 2), low.astype(np.int64)], 11, ["k"], largest=0)
for opset in (7, 9, 11, 12, 13):
    flat = opset < 13
    e = np.exp(d - d.max(axis=(1, 2) if flat else 1, keepdims=True))
    case(f"softmax_{opset}", "Softmax", {"x": x}, (e / e.sum(axis=(1, 2) if flat else 1, keepdims=True)).astype(np.float32), opset, axis=1)
    case(f"logsoftmax_{opset}", "LogSoftmax", {"x": x}, np.log(e / e.sum(axis=(1, 2) if flat else 1, keepdims=True)).astype(np.float32), opset, axis=1)
for opset in (7, 11, 12, 13, 17):
    for op, f in (("ReduceMean", np.mean), ("ReduceMax", np.max), ("ReduceMin", np.min)):
        case(f"{op.lower()}_{opset}_attribute", op, {"x": x}, f(d, axis=(0, 2), keepdims=True).astype(np.float32), opset, axes=[0, 2])
case("reducesum_11_attribute", "ReduceSum", {"x": x}, d.sum(axis=1).astype(np.float32), 11, axes=[1], keepdims=0)
for opset in (7, 10, 12, 13):
    case(f"dropout_{opset}_inference", "Dropout", {"x": x}, x, opset)
case("dropout_12_ratio_zero", "Dropout", {"x": x, "r": np.array(0.0, np.float32), "t": np.array(True)}, [x, np.ones(x.shape, bool)], 12)
for opset in (7, 8, 9, 14, 15):
    parts = [f32(3, low=0.5), f32(3), f32(3), f32(3, low=0.5)]
    case(f"batchnorm_{opset}", "BatchNormalization", dict(zip(("x", "s", "b", "m", "v"), [x] + parts)),
         ((d - column(parts[2])) / np.sqrt(column(parts[3]) + 1e-5) * column(parts[0]) + column(parts[1])).astype(np.float32), opset)
picture = f32(1, 2, 3, 4)
case("upsample_7", "Upsample", {"x": picture}, picture.repeat(2, 2).repeat(3, 3), 7, scales=[1.0, 1.0, 2.0, 3.0])
both("upsample_9", "Upsample", {"x": picture, "scales": np.array([1, 1, 2, 3], np.float32)}, picture.repeat(2, 2).repeat(3, 3), 9, ["scales"])
both("resize_10", "Resize", {"x": picture, "scales": np.array([1, 1, 2, 3], np.float32)}, picture.repeat(2, 2).repeat(3, 3), 10, ["scales"])
both("resize_11_sizes", "Resize", {"x": picture, "roi": np.array([], np.float32), "scales": np.array([], np.float32), "sizes": np.array([1, 2, 6, 8], np.int64)},
     linear(linear(picture.astype(np.float64), 2, 6), 3, 8).astype(np.float32), 11, ["roi", "scales", "sizes"], mode="linear")
both("reshape_7", "Reshape", {"x": x, "shape": np.array([0, -1], np.int64)}, x.reshape(2, 12), 7, ["shape"])
both("expand_8", "Expand", {"x": x[:, :1], "shape": np.array([3, 1], np.int64)}, np.array(np.broadcast_to(x[:, :1], (2, 3, 4))), 8, ["shape"])
both("constantofshape_9", "ConstantOfShape", {"shape": np.array([2, 3], np.int64)}, np.full((2, 3), 7, np.int64), 9, ["shape"], value=np.array([7], np.int64))
case("flatten_9", "Flatten", {"x": x}, x.reshape(6, 4), 9, axis=2)
case("flatten_11_negative", "Flatten", {"x": x}, x.reshape(6, 4), 11, axis=-1)
case("argmax_12_last", "ArgMax", {"x": np.array([[1, 3, 3], [2, 2, 1]], np.float32)}, np.array([[2], [1]], np.int64), 12, axis=1, select_last_index=1)
case("argmin_11", "ArgMin", {"x": x}, x.argmin(1).astype(np.int64), 11, axis=1, keepdims=0)
case("isinf_10", "IsInf", {"x": np.array([1, np.inf, -np.inf, np.nan], np.float32)}, np.array([False, True, False, False]), 10, detect_negative=0)
case("round_11", "Round", {"x": np.array([0.5, 1.5, 2.5, -0.5, -1.5], np.float32)}, np.array([0, 2, 2, -0.0, -2], np.float32), 11)
case("prelu_9", "PRelu", {"x": x, "slope": params[1][:1].reshape(1, 1, 1)}, np.where(x < 0, x * params[1][0], x).astype(np.float32), 9)
case("mod_10_floats", "Mod", {"a": x, "b": np.float32([0.75])}, np.fmod(x, np.float32(0.75)), 10, fmod=1)

# ---- products ----
for ta in (0, 1):
    for tb in (0, 1):
        a, b, c = f32(5, 7), f32(7, 6), f32(6)
        y = 0.5 * (a.astype(np.float64) @ b.astype(np.float64)) + 2 * c.astype(np.float64)
        both(f"gemm_13_{ta}{tb}", "Gemm", {"a": np.ascontiguousarray(a.T) if ta else a, "b": np.ascontiguousarray(b.T) if tb else b, "c": c}, y.astype(np.float32), 13, ["b", "c"],
             transA=ta, transB=tb, alpha=0.5, beta=2.0)
for name, sa, sb in (("vectors", (7,), (7,)), ("row", (7,), (2, 7, 3)), ("column", (2, 3, 7), (7,)), ("batched", (2, 1, 5, 7), (3, 7, 40)), ("one_row", (1, 300), (300, 70)), ("wide", (65, 129), (129, 97))):
    a, b = f32(*sa), f32(*sb)
    both(f"matmul_13_{name}", "MatMul", {"a": a, "b": b}, np.asarray(np.matmul(a.astype(np.float64), b.astype(np.float64)), np.float32), 13, ["b"])


def convolve_transposed(x, w, stride, pad, extra=(0, 0), group=1):
    """Every input pixel lays the kernel down, scaled; the border is cut off."""
    n, c, h, wd = x.shape
    kh, kw = w.shape[2:]
    mg = w.shape[1]
    y = np.zeros((n, mg * group, stride[0] * (h - 1) + kh + extra[0], stride[1] * (wd - 1) + kw + extra[1]))
    for ch in range(c):
        g = ch // (c // group)
        for i in range(h):
            for j in range(wd):
                y[:, g * mg:(g + 1) * mg, i * stride[0]:i * stride[0] + kh, j * stride[1]:j * stride[1] + kw] += x[:, ch, i, j][:, None, None, None].astype(np.float64) * w[ch]
    return y[:, :, pad[0]:y.shape[2] - pad[2], pad[1]:y.shape[3] - pad[3]]


for name, ws, stride, pad, extra, group in (("plain", (4, 5, 3, 3), (1, 1), (0, 0, 0, 0), (0, 0), 1), ("strided", (4, 5, 3, 2), (2, 3), (1, 0, 1, 1), (0, 0), 1),
                                            ("padded_out", (4, 5, 3, 3), (2, 2), (1, 1, 1, 1), (1, 1), 1), ("grouped", (4, 3, 2, 2), (2, 2), (0, 0, 0, 0), (0, 0), 2)):
    a, w = f32(2, 4, 5, 6), f32(*ws)
    both(f"convtranspose_{name}", "ConvTranspose", {"x": a, "w": w}, convolve_transposed(a, w, stride, pad, extra, group).astype(np.float32), 11, ["w"],
         strides=list(stride), pads=list(pad), output_padding=list(extra), group=group)
a, s, b = f32(2, 3, 5, 4), f32(3), f32(3)
w = a.astype(np.float64)
case("instancenorm_6", "InstanceNormalization", {"x": a, "s": s, "b": b},
     ((w - w.mean((2, 3), keepdims=True)) / np.sqrt(w.var((2, 3), keepdims=True) + 1e-5) * s[:, None, None] + b[:, None, None]).astype(np.float32), 7)

# ---- NaN and infinity go where the standard's formulas send them ----
odd = np.array([np.nan, np.inf, -np.inf, 0.0, -0.0, 1.0, -1.0], np.float32)
with np.errstate(all="ignore"):
    for op, f in (("Relu", lambda v: np.where(v < 0, 0, v)), ("Abs", np.abs), ("Exp", np.exp), ("Sqrt", np.sqrt), ("Tanh", np.tanh), ("Floor", np.floor), ("Neg", np.negative),
                  ("Sigmoid", lambda v: 1 / (1 + np.exp(-v))), ("Sign", np.sign), ("Reciprocal", lambda v: 1 / v), ("Erf", erf)):
        case(f"odd_{op.lower()}", op, {"x": odd}, np.asarray(f(odd.astype(np.float64)), np.float32), 13)
    case("odd_log", "Log", {"x": odd}, np.log(odd.astype(np.float64)).astype(np.float32), 13)
    case("odd_add", "Add", {"a": odd, "b": odd[::-1].copy()}, odd + odd[::-1], 14)
    case("odd_mul", "Mul", {"a": odd, "b": odd[::-1].copy()}, odd * odd[::-1], 14)
    case("odd_div", "Div", {"a": odd, "b": odd[::-1].copy()}, odd / odd[::-1], 14)
    case("odd_max", "Max", {"a": odd, "b": odd[::-1].copy()}, np.maximum(odd, odd[::-1]), 13)
    case("odd_min", "Min", {"a": odd, "b": odd[::-1].copy()}, np.minimum(odd, odd[::-1]), 13)
    case("odd_less", "Less", {"a": odd, "b": odd[::-1].copy()}, odd < odd[::-1], 13)
    case("odd_isnan", "IsNaN", {"x": odd}, np.isnan(odd), 13)
    rows = np.stack([odd, np.float32([1, 2, 3, 4, 5, 6, 7])])
    case("odd_reducemax", "ReduceMax", {"x": rows}, np.array([[np.nan], [7]], np.float32), 13, axes=[1])
    case("odd_reducesum", "ReduceSum", {"x": rows, "a": np.array([1], np.int64)}, np.array([[np.nan], [28]], np.float32), 13)
    case("odd_matmul", "MatMul", {"a": np.float32([[np.inf, 1], [np.nan, 0], [1, 2]]), "b": np.float32([[1, 0], [1, 1]])}, np.float32([[np.inf, np.nan], [np.nan, np.nan], [3, 2]]), 13)

print(f"{harness.count} cases written")
