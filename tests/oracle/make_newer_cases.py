#!/usr/bin/python3
"""Writes cases for operators of opsets 18 to 24 and for those whose packaged cases are few: recurrent layers, attention, sampling,
scattering, transforms, quantisation, narrow types, strings, trees. Expected outputs are computed here in numpy, in float64, from the
standard's text; nothing here knows the engine.

Usage: make_newer_cases.py OUT_DIR"""
import itertools
import math

import numpy as np

from harness import both, case, f32, rng, wire, whole
import harness

f64 = np.float64
I = lambda *v: np.array(v, np.int64)
single = lambda v: np.asarray(v, np.float32)
sigmoid = lambda v: 1 / (1 + np.exp(-v))
erf = np.vectorize(math.erf)

# ---- recurrent layers ----


def recurrent(kind, x, w, r, b, h0, c0=None, p=None, lens=None, direction="forward", clip=None, reset_after=False, coupled=False, acts=None):
    """x: time x batch x input. Gate orders: GRU z r h, LSTM i o f c."""
    t, n, _ = x.shape
    dirs, hidden = w.shape[0], r.shape[2]
    lens = np.full(n, t) if lens is None else lens
    y = np.zeros((t, dirs, n, hidden))
    hs, cs = np.zeros((dirs, n, hidden)), np.zeros((dirs, n, hidden))
    bound = (lambda v: np.clip(v, -clip, clip)) if clip else (lambda v: v)
    f, g, o = acts or {"RNN": (np.tanh, None, None), "GRU": (sigmoid, np.tanh, None), "LSTM": (sigmoid, np.tanh, np.tanh)}[kind]
    for d, i in itertools.product(range(dirs), range(n)):
        W, R, B = w[d].astype(f64), r[d].astype(f64), b[d].astype(f64)
        half = len(B) // 2
        wb, rb = B[:half], B[half:]
        h, c = h0[d, i].astype(f64), None if c0 is None else c0[d, i].astype(f64)
        steps = range(lens[i] - 1, -1, -1) if direction == "reverse" or d == 1 else range(lens[i])
        for s in steps:
            gx = W @ x[s, i].astype(f64) + wb
            if kind == "RNN":
                h = f(bound(gx + R @ h + rb))
            elif kind == "GRU":
                xz, xr, xh = np.split(gx, 3)
                rz, rr, rh = np.split(R, 3)
                bz, br, bh = np.split(rb, 3)
                z, reset = f(bound(xz + rz @ h + bz)), f(bound(xr + rr @ h + br))
                hh = g(bound(xh + reset * (rh @ h + bh))) if reset_after else g(bound(xh + rh @ (reset * h) + bh))
                h = (1 - z) * hh + z * h
            else:
                gi, go, gf, gc = np.split(gx + R @ h + rb, 4)
                pi, po, pf = np.split(p[d].astype(f64), 3) if p is not None else (0, 0, 0)
                it = f(bound(gi + pi * c))
                ft = 1 - it if coupled else f(bound(gf + pf * c))
                c = ft * c + it * g(bound(gc))
                h = f(bound(go + po * c)) * o(c)
            y[s, d, i] = h
        hs[d, i], cs[d, i] = h, 0 if c is None else c
    return y, hs, cs


gates = {"RNN": 1, "GRU": 3, "LSTM": 4}
for kind in gates:
    for direction in ("forward", "reverse", "bidirectional"):
        dirs, t, n, width, hidden = 2 if direction == "bidirectional" else 1, 5, 3, 4, 6
        x, w, r = f32(t, n, width), f32(dirs, gates[kind] * hidden, width, low=-0.7, high=0.7), f32(dirs, gates[kind] * hidden, hidden, low=-0.7, high=0.7)
        b, h0, c0, p = f32(dirs, 2 * gates[kind] * hidden, low=-0.3, high=0.3), f32(dirs, n, hidden, low=-1, high=1), f32(dirs, n, hidden, low=-1, high=1), f32(dirs, 3 * hidden, low=-0.4, high=0.4)
        lens = np.array([5, 2, 4], np.int32)
        lstm = kind == "LSTM"
        y, hs, cs = recurrent(kind, x, w, r, b, h0, c0 if lstm else None, p if lstm else None, lens, direction)
        outs = [single(y), single(hs)] + ([single(cs)] if lstm else [])
        inputs = {"x": x, "w": w, "r": r, "b": b, "lens": lens, "h0": h0, **({"c0": c0, "p": p} if lstm else {})}
        both(f"{kind.lower()}_14_{direction}", kind, inputs, outs, 14, ["w", "r", "b"] + (["p"] if lstm else []), hidden_size=hidden, direction=direction)
        swap = lambda a: np.ascontiguousarray(np.swapaxes(a, 0, 1))
        batch_first = {**inputs, "x": swap(x), "h0": swap(h0), **({"c0": swap(c0)} if lstm else {})}
        case(f"{kind.lower()}_22_{direction}_batch_first", kind, batch_first, [np.ascontiguousarray(outs[0].transpose(2, 0, 1, 3))] + [swap(a) for a in outs[1:]], 22, ["w", "r"],
             hidden_size=hidden, direction=direction, layout=1)
        plain = recurrent(kind, x, w, r, np.zeros_like(b), np.zeros_like(h0), np.zeros_like(c0) if lstm else None, None, None, direction, clip=0.4)
        case(f"{kind.lower()}_7_{direction}_clip", kind, {"x": x, "w": w, "r": r}, [single(plain[0]), single(plain[1])], 7, ["w", "r"], hidden_size=hidden, direction=direction, clip=0.4)
x, w, r, b, h0 = f32(4, 2, 3), f32(1, 15, 3), f32(1, 15, 5), f32(1, 30), np.zeros((1, 2, 5), np.float32)
y, hs, _ = recurrent("GRU", x, w, r, b, h0, reset_after=True)
case("gru_14_reset_after", "GRU", {"x": x, "w": w, "r": r, "b": b}, [single(y), single(hs)], 14, hidden_size=5, linear_before_reset=1)
w, r, b = f32(1, 20, 3), f32(1, 20, 5), f32(1, 40)
y, hs, cs = recurrent("LSTM", x, w, r, b, h0, h0, coupled=True)
case("lstm_14_coupled", "LSTM", {"x": x, "w": w, "r": r, "b": b}, [single(y), single(hs), single(cs)], 14, hidden_size=5, input_forget=1)
hard = lambda v: np.clip(0.3 * v + 0.4, 0, 1)
leaky = lambda v: np.where(v < 0, np.float32(0.05) * v, v)
y, hs, cs = recurrent("LSTM", x, w, r, b, h0, h0, acts=(hard, leaky, np.tanh))
case("lstm_14_activations", "LSTM", {"x": x, "w": w, "r": r, "b": b}, [single(y), single(hs), single(cs)], 14, hidden_size=5, activations=["HardSigmoid", "LeakyRelu", "Tanh"],
     activation_alpha=[0.3, 0.05], activation_beta=[0.4])

# ---- normalisations ----
x = f32(2, 6, 3, 4)
d = x.astype(f64).reshape(2, 3, -1)
norm = ((d - d.mean(2, keepdims=True)) / np.sqrt(d.var(2, keepdims=True) + 1e-5)).reshape(x.shape)
s, b = f32(3), f32(3)
case("groupnorm_18", "GroupNormalization", {"x": x, "s": s, "b": b}, single(norm * s.repeat(2)[:, None, None] + b.repeat(2)[:, None, None]), 18, num_groups=3)
s, b = f32(6), f32(6)
case("groupnorm_21", "GroupNormalization", {"x": x, "s": s, "b": b}, single(norm * s[:, None, None] + b[:, None, None]), 21, num_groups=3)
for axis in (-1, 1, 2):
    axes = tuple(range(axis % 4, 4))
    s = f32(*x.shape[axis % 4:])
    rms = x.astype(f64) / np.sqrt((x.astype(f64) ** 2).mean(axes, keepdims=True) + 1e-6)
    both(f"rmsnorm_23_axis{axis % 4}", "RMSNormalization", {"x": x, "s": s}, single(rms * s), 23, ["s"], axis=axis, epsilon=1e-6)
case("lpnorm_22_p1", "LpNormalization", {"x": x}, single(x / np.abs(x.astype(f64)).sum(1, keepdims=True)), 22, axis=1, p=1)
case("mvn_13", "MeanVarianceNormalization", {"x": x}, single((x - x.astype(f64).mean((0, 2), keepdims=True)) / x.astype(f64).std((0, 2), keepdims=True)), 13, axes=[0, 2])

# ---- attention ----


def attend(q, k, v, mask=None, causal=False, scale=None, cap=0.0, past=0):
    q, k, v = (a.astype(f64) for a in (q, k, v))
    group = q.shape[1] // k.shape[1]
    k, v = k.repeat(group, 1), v.repeat(group, 1)
    scores = q @ k.swapaxes(-1, -2) * (scale or 1 / math.sqrt(q.shape[-1]))
    raw = scores
    if mask is not None:
        scores = np.where(mask, scores, -np.inf) if mask.dtype == bool else scores + mask
    if causal:
        rows, columns = np.arange(q.shape[2])[:, None] + past, np.arange(k.shape[2])[None]
        scores = np.where(columns <= rows, scores, -np.inf)
    masked = scores
    if cap:
        scores = cap * np.tanh(scores / cap)
    e = np.exp(scores - scores.max(-1, keepdims=True))
    p = e / e.sum(-1, keepdims=True)
    return p @ v, raw, masked, p


flat = lambda a: np.ascontiguousarray(a.transpose(0, 2, 1, 3)).reshape(a.shape[0], a.shape[2], -1)
q, k, v = f32(2, 4, 5, 8), f32(2, 4, 7, 8), f32(2, 4, 7, 6)
case("attention_23", "Attention", {"q": q, "k": k, "v": v}, single(attend(q, k, v)[0]), 23)
case("attention_23_flat", "Attention", {"q": flat(q), "k": flat(k), "v": flat(v)}, flat(single(attend(q, k, v)[0])), 23, q_num_heads=4, kv_num_heads=4)
case("attention_23_scale_cap", "Attention", {"q": q, "k": k, "v": v}, single(attend(q, k, v, scale=0.2, cap=0.5)[0]), 23, scale=0.2, softcap=0.5)
mask = f32(5, 7)
case("attention_23_mask", "Attention", {"q": q, "k": k, "v": v, "m": mask}, single(attend(q, k, v, mask)[0]), 23)
flags = rng.uniform(size=(2, 1, 5, 7)) < 0.6
flags[..., 0] = True
case("attention_23_bool_mask", "Attention", {"q": q, "k": k, "v": v, "m": flags}, single(attend(q, k, v, flags)[0]), 23)
case("attention_24_causal", "Attention", {"q": q, "k": k, "v": v}, single(attend(q, k, v, causal=True)[0]), 24, is_causal=1)
gk, gv = f32(2, 2, 7, 8), f32(2, 2, 7, 6)
case("attention_23_grouped", "Attention", {"q": q, "k": gk, "v": gv}, single(attend(q, gk, gv)[0]), 23)
case("attention_23_one_key_head", "Attention", {"q": q, "k": gk[:, :1], "v": gv[:, :1]}, single(attend(q, gk[:, :1], gv[:, :1])[0]), 23)
pk, pv = f32(2, 2, 3, 8), f32(2, 2, 3, 6)
nk, nv = gk[:, :, :5].copy(), gv[:, :, :5].copy()
ak, av = np.concatenate([pk, nk], 2), np.concatenate([pv, nv], 2)
y, raw, masked, p = attend(q, ak, av, causal=True, past=3)
for stage, scores in ((0, raw), (1, masked), (3, p)):
    case(f"attention_23_past_stage{stage}", "Attention", {"q": q, "k": nk, "v": nv, "m": None, "pk": pk, "pv": pv}, [single(y), ak, av, single(scores)], 23, is_causal=1, qk_matmul_output_mode=stage)
valid = I(4, 7)
lengths = np.arange(7)[None, None, None, :] < valid[:, None, None, None]
case("attention_24_valid_lengths", "Attention", {"q": q, "k": k, "v": v, "m": None, "pk": None, "pv": None, "n": valid}, single(attend(q, k, v, np.broadcast_to(lengths, (2, 1, 5, 7)))[0]), 24)
for name, interleaved, dim, ids in (("halves", 0, 0, True), ("interleaved", 1, 0, True), ("part", 0, 4, True), ("no_positions", 0, 0, False)):
    x = f32(2, 3, 5, 8)
    turned = dim or 8
    cache = (2, 5, turned // 2) if not ids else (10, turned // 2)
    angle = rng.uniform(0, 3, cache)
    positions = rng.integers(0, 10, (2, 5)) if ids else None
    at = angle[positions] if ids else angle
    c, s = single(np.cos(angle)), single(np.sin(angle))
    cc, ss = (c[positions] if ids else c)[:, None], (s[positions] if ids else s)[:, None]
    part = x[..., :turned].astype(f64)
    one, two = (part[..., 0::2], part[..., 1::2]) if interleaved else (part[..., :turned // 2], part[..., turned // 2:])
    a, b = cc * one - ss * two, ss * one + cc * two
    y = x.astype(f64).copy()
    if interleaved:
        y[..., 0:turned:2], y[..., 1:turned:2] = a, b
    else:
        y[..., :turned] = np.concatenate([a, b], -1)
    case(f"rotary_23_{name}", "RotaryEmbedding", {"x": x, "c": c, "s": s, "p": positions if ids else None}, single(y), 23, interleaved=interleaved, rotary_embedding_dim=dim)
    if ids and not dim:
        case(f"rotary_23_{name}_flat", "RotaryEmbedding", {"x": flat(x), "c": c, "s": s, "p": positions}, flat(single(y)), 23, interleaved=interleaved, num_heads=3)

# ---- gathering and scattering ----
data, updates = f32(4, 5), f32(3, 5)
at = rng.integers(-4, 4, (3, 5)).astype(np.int64)
ufuncs = {"add": np.add, "mul": np.multiply, "max": np.maximum, "min": np.minimum}
for how, u in ufuncs.items():
    y = data.astype(f64).copy()
    for i, j in np.ndindex(3, 5):
        y[at[i, j], j] = u(y[at[i, j], j], updates[i, j])
    both(f"scatterelements_18_{how}", "ScatterElements", {"x": data, "i": at, "u": updates}, single(y), 18, ["i"], axis=0, reduction=how)
    y = data.astype(f64).copy()
    rows = I(1, 3, 1)
    for i, row in enumerate(rows):
        y[row] = u(y[row], updates[i])
    both(f"scatternd_18_{how}", "ScatterND", {"x": data, "i": rows[:, None], "u": updates}, single(y), 18, ["i"], reduction=how)
x = f32(2, 3, 4, 5)
picks = I(1, 0, 2, 3).reshape(2, 1, 2)
case("gathernd_13_batch", "GatherND", {"x": x[:, :, :, 0].copy(), "i": picks % 3}, np.stack([x[b, (picks % 3)[b, 0, 0], (picks % 3)[b, 0, 1], 0] for b in range(2)])[:, None], 13, batch_dims=1)
case("gathernd_13_negative", "GatherND", {"x": x, "i": I(-1, -2).reshape(1, 2)}, x[-1, -2][None], 13)
cache, fresh = f32(2, 3, 8, 4), f32(2, 3, 3, 4)
for mode, starts in (("linear", I(1, 5)), ("circular", I(6, 7))):
    y = cache.copy()
    for b in range(2):
        for t in range(3):
            y[b, :, (starts[b] + t) % 8] = fresh[b, :, t]
    case(f"tensorscatter_24_{mode}", "TensorScatter", {"c": cache, "u": fresh, "w": starts}, y, 24, mode=mode)
x = f32(5, 7)
for k, upper in ((0, 1), (-2, 1), (3, 0), (0, 0), (-9, 1), (20, 0)):
    both(f"trilu_14_{'upper' if upper else 'lower'}_{k}".replace("-", "m"), "Trilu", {"x": x, "k": np.array(k, np.int64)}, (np.triu if upper else np.tril)(x, k), 14, ["k"], upper=upper)
for exclusive, reverse in itertools.product((0, 1), (0, 1)):
    z = x[:, ::-1] if reverse else x
    y = np.cumsum(z.astype(f64), 1)
    y = y - z if exclusive else y
    case(f"cumsum_14_{exclusive}{reverse}", "CumSum", {"x": x, "a": np.array(-1, np.int64)}, single(y[:, ::-1] if reverse else y), 14, exclusive=exclusive, reverse=reverse)
x = rng.integers(0, 4, (6, 3)).astype(np.int32)
values, first, inverse, counts = np.unique(x, axis=0, return_index=True, return_inverse=True, return_counts=True)
case("unique_11_rows", "Unique", {"x": x}, [values, first.astype(np.int64), inverse.reshape(-1).astype(np.int64), counts.astype(np.int64)], 11, axis=0)
words = np.array(["oak", "ash", "oak", "elm", "ash"])
case("unique_11_strings_unsorted", "Unique", {"x": words}, [np.array(["oak", "ash", "elm"]), I(0, 1, 3), I(0, 1, 0, 2, 1), I(2, 2, 1)], 11, sorted=0)
case("nonzero_13_bool", "NonZero", {"x": np.array([[True, False], [True, True]])}, I(0, 1, 1, 0, 0, 1).reshape(2, 3), 13)
case("onehot_11_outside", "OneHot", {"i": I(0, 3, -1, 7), "d": np.array(4, np.int64), "v": single([5, 9])}, single([[9, 5, 5, 5], [5, 5, 5, 9], [5, 5, 5, 9], [5, 5, 5, 5]]), 11)
for name, shape, expect in (("crop", (3, 5), lambda a: a[1:4, 1:6]), ("pad", (9, 8), lambda a: np.pad(a, ((2, 2), (0, 1)))), ("both", (2, 10), lambda a: np.pad(a[1:3], ((0, 0), (1, 2))))):
    x = f32(5, 7)
    both(f"centercroppad_18_{name}", "CenterCropPad", {"x": x, "s": I(*shape)}, np.ascontiguousarray(expect(x)), 18, ["s"])
x = f32(2, 3, 4)
for mode, how in (("wrap", "wrap"), ("edge", "edge"), ("reflect", "reflect")):
    both(f"pad_19_{mode}", "Pad", {"x": x, "p": I(0, 1, 2, 1, 0, 3)}, np.pad(x, ((0, 1), (1, 0), (2, 3)), mode=how), 19, ["p"], mode=mode)
both("pad_18_axes", "Pad", {"x": x, "p": I(2, 1), "v": single(7), "a": I(-1)}, np.pad(x, ((0, 0), (0, 0), (2, 1)), constant_values=7), 18, ["p", "a"])
both("pad_21_negative", "Pad", {"x": x, "p": I(0, -1, 2, 0, -1, -3)}, np.pad(x, ((0, 0), (0, 0), (2, 0)))[:, 1:-1, :-3], 21, ["p"])

# ---- sampling ----


def cubic(t, a=-0.75):
    t = np.abs(t)
    return np.where(t <= 1, ((a + 2) * t - (a + 3)) * t * t + 1, np.where(t < 2, ((a * t - 5 * a) * t + 8 * a) * t - 4 * a, 0))


def fold(x, low, high):
    """Reflects x between low and high."""
    span = high - low
    if span == 0:
        return np.full_like(x, low)
    t = np.mod(np.abs(x - low), 2 * span)
    return low + np.where(t > span, 2 * span - t, t)


def grid_sample(x, grid, mode, padding, align):
    n, c = x.shape[:2]
    size = x.shape[2:]
    out = np.zeros((n, c) + grid.shape[1:-1])
    for b in range(n):
        for place in np.ndindex(grid.shape[1:-1]):
            at = []
            for axis, extent in enumerate(size):
                g = float(grid[(b,) + place + (len(size) - 1 - axis,)])
                p = (g + 1) / 2 * (extent - 1) if align else ((g + 1) * extent - 1) / 2
                if mode != "cubic" and padding == "border":
                    p = min(max(p, 0), extent - 1)
                if mode != "cubic" and padding == "reflection":
                    p = float(fold(np.float64(p), 0 if align else -0.5, extent - 1 if align else extent - 0.5))
                    p = min(max(p, 0), extent - 1)
                if mode == "nearest":
                    at.append([(int(np.rint(p)), 1.0)])
                elif mode == "linear":
                    f = math.floor(p)
                    at.append([(f, 1 - (p - f)), (f + 1, p - f)])
                else:
                    f = math.floor(p)
                    at.append([(f + k, float(cubic(p - f - k))) for k in (-1, 0, 1, 2)])
            for corner in itertools.product(*at):
                weight, index, inside = 1.0, [], True
                for (i, w), extent in zip(corner, size):
                    weight *= w
                    if not 0 <= i < extent:
                        if padding == "zeros":
                            inside = False
                        elif padding == "border":
                            i = min(max(i, 0), extent - 1)
                        else:
                            i = int(np.rint(fold(np.float64(i), 0 if align else -0.5, extent - 1 if align else extent - 0.5)))
                            i = min(max(i, 0), extent - 1)
                    index.append(i)
                if inside:
                    out[(b, slice(None)) + place] += weight * x[(b, slice(None)) + tuple(index)].astype(f64)
    return single(out)


x, grid = f32(2, 3, 5, 6), f32(2, 4, 3, 2, low=-1.4, high=1.4)
for mode, padding, align in itertools.product(("linear", "nearest", "cubic"), ("zeros", "border", "reflection"), (0, 1)):
    case(f"gridsample_20_{mode}_{padding}_{align}", "GridSample", {"x": x, "g": grid}, grid_sample(x, grid, mode, padding, align), 20, mode=mode, padding_mode=padding, align_corners=align)
x3, grid3 = f32(1, 2, 3, 4, 5), f32(1, 2, 3, 2, 3, low=-1.2, high=1.2)
for mode in ("linear", "nearest"):
    case(f"gridsample_20_volume_{mode}", "GridSample", {"x": x3, "g": grid3}, grid_sample(x3, grid3, mode, "zeros", 0), 20, mode=mode)
case("gridsample_16_bilinear", "GridSample", {"x": x, "g": grid}, grid_sample(x, grid, "linear", "zeros", 0), 16, mode="bilinear")
for align in (0, 1):
    theta = f32(2, 2, 3)
    h, w = 4, 5
    steps = lambda m: np.linspace(-1, 1, m) if align else (2 * np.arange(m) + 1) / m - 1
    base = np.stack([np.broadcast_to(steps(w)[None], (h, w)), np.broadcast_to(steps(h)[:, None], (h, w)), np.ones((h, w))], -1)
    both(f"affinegrid_20_{align}", "AffineGrid", {"t": theta, "s": I(2, 3, h, w)}, single(np.einsum("hwk,nrk->nhwr", base, theta.astype(f64))), 20, ["s"], align_corners=align)

x, w, b = f32(1, 4, 6, 7), f32(6, 2, 3, 3), f32(6)
offset, m = f32(1, 2 * 2 * 9, 4, 5, low=-1.5, high=1.5), f32(1, 2 * 9, 4, 5, low=0, high=1)
y = np.zeros((1, 6, 4, 5))


def pixel(plane, r, q):
    return plane[r, q] if 0 <= r < plane.shape[0] and 0 <= q < plane.shape[1] else 0.0


for i, j, f, c, t in itertools.product(range(4), range(5), range(6), range(2), range(9)):
    channel = f // 3 * 2 + c
    og = channel // 2
    py, px = i + t // 3 + float(offset[0, og * 18 + 2 * t, i, j]), j + t % 3 + float(offset[0, og * 18 + 2 * t + 1, i, j])
    plane = x[0, channel].astype(f64)
    r, s = math.floor(py), math.floor(px)
    fy, fx = py - r, px - s
    v = (1 - fy) * ((1 - fx) * pixel(plane, r, s) + fx * pixel(plane, r, s + 1)) + fy * ((1 - fx) * pixel(plane, r + 1, s) + fx * pixel(plane, r + 1, s + 1))
    y[0, f, i, j] += v * float(w[f, c, t // 3, t % 3]) * float(m[0, og * 9 + t, i, j])
case("deformconv_19", "DeformConv", {"x": x, "w": w, "o": offset, "b": b, "m": m}, single(y + b[:, None, None]), 19, kernel_shape=[3, 3], group=2, offset_group=2)

x = f32(2, 3 * 6, 12)
z = np.zeros((2, 3, 5, 5))
for place, (ky, kx) in itertools.product(range(12), itertools.product(range(2), range(3))):
    z[:, :, place // 3 + ky, place % 3 + kx] += x.reshape(2, 3, 2, 3, 12)[:, :, ky, kx, place]
both("col2im_18", "Col2Im", {"x": x, "i": I(5, 5), "b": I(2, 3)}, single(z), 18, ["i", "b"])
x = f32(1, 2 * 4, 9)
z = np.zeros((1, 2, 8, 8))
for place, (ky, kx) in itertools.product(range(9), itertools.product(range(2), range(2))):
    z[:, :, place // 3 * 2 + ky * 2, place % 3 * 2 + kx * 2] += x.reshape(1, 2, 2, 2, 9)[:, :, ky, kx, place]
both("col2im_18_strided_padded", "Col2Im", {"x": x, "i": I(5, 5), "b": I(2, 2)}, single(z[:, :, 1:6, 1:6]), 18, ["i", "b"], strides=[2, 2], dilations=[2, 2], pads=[1, 1, 1, 1])


def resize_axis(a, axis, size, kernel, support, scale, antialias, coordinate, exclude):
    n = a.shape[axis]
    out = []
    for o in range(size):
        x0 = coordinate(o, scale, n, size)
        stretch = scale if antialias and scale < 1 else 1.0
        taps = np.arange(math.floor(x0 - support / stretch) + 1, math.ceil(x0 + support / stretch))
        weight = kernel((taps - x0) * stretch)
        if exclude:
            weight = np.where((taps < 0) | (taps >= n), 0, weight)
        if exclude or stretch < 1:
            weight = weight / weight.sum()
        out.append(np.tensordot(weight, np.take(a, np.clip(taps, 0, n - 1), axis), (0, axis)))
    return np.stack(out, axis)


half = lambda o, s, n, m: (o + 0.5) / s - 0.5
triangle = lambda t: np.maximum(0, 1 - np.abs(t))
x = f32(1, 1, 8, 9)
for name, kernel, support, antialias, exclude in (("linear_antialias", triangle, 1, 1, 0), ("cubic_antialias", cubic, 2, 1, 0), ("cubic", cubic, 2, 0, 0), ("cubic_exclude", cubic, 2, 0, 1), ("cubic_antialias_exclude", cubic, 2, 1, 1)):
    y = resize_axis(resize_axis(x.astype(f64), 2, 4, kernel, support, 0.5, antialias, half, exclude), 3, 6, kernel, support, 6 / 9, antialias, half, exclude)
    both(f"resize_19_{name}", "Resize", {"x": x, "roi": None, "scales": None, "sizes": I(1, 1, 4, 6)}, single(y), 19, ["sizes"], mode=name.split("_")[0], antialias=antialias, exclude_outside=exclude)
symmetric = lambda o, s, n, m: n / 2 * (1 - m / (s * n)) + (o + 0.5) / s - 0.5
y = resize_axis(x.astype(f64), 3, int(9 * 0.6), triangle, 1, float(np.float32(0.6)), 0, symmetric, 0)
case("resize_19_half_pixel_symmetric", "Resize", {"x": x, "roi": None, "scales": single([1, 1, 1, 0.6])}, single(y), 19, ["scales"], mode="linear", coordinate_transformation_mode="half_pixel_symmetric")

# ---- transforms ----
x = f32(2, 10, 1)
c = lambda v: single(np.stack([v.real, v.imag], -1))
for n in (10, 7, 16):
    both(f"dft_20_length{n}", "DFT", {"x": x, "n": np.array(n, np.int64), "a": np.array(1, np.int64)}, c(np.fft.fft(x[..., 0].astype(f64), n, 1)), 20, ["n", "a"])
case("dft_20_onesided", "DFT", {"x": x, "n": None, "a": np.array(-2, np.int64)}, c(np.fft.rfft(x[..., 0].astype(f64), axis=1)), 20, ["a"], onesided=1)
x = f32(3, 6, 5, 2)
z = x[..., 0].astype(f64) + 1j * x[..., 1]
for axis in (0, 1, 2):
    both(f"dft_20_complex_axis{axis}", "DFT", {"x": x, "n": None, "a": np.array(axis, np.int64)}, c(np.fft.fft(z, axis=axis)), 20, ["a"])
    case(f"dft_17_inverse_axis{axis}", "DFT", {"x": x}, c(np.fft.ifft(z, axis=axis)), 17, axis=axis, inverse=1)
signal, window = f32(2, 40, 1), f32(8, low=0, high=1)
frames = np.stack([signal[:, s:s + 8, 0] for s in range(0, 33, 4)], 1).astype(f64) * window
both("stft_17", "STFT", {"x": signal, "s": np.array(4, np.int64), "w": window, "n": np.array(8, np.int64)}, c(np.fft.rfft(frames, axis=2)), 17, ["s", "n"])
n = np.arange(9)
for op, series in (("HannWindow", (0.5, 0.5)), ("HammingWindow", (25 / 46, 21 / 46)), ("BlackmanWindow", (0.42, 0.5, 0.08))):
    for periodic in (0, 1):
        t = 2 * np.pi * n / (9 if periodic else 8)
        both(f"{op.lower()}_17_{periodic}", op, {"n": np.array(9, np.int64)}, single(sum((-1) ** k * a * np.cos(k * t) for k, a in enumerate(series))), 17, ["n"], periodic=periodic)

# ---- quantisation ----
x = f32(4, 6, low=-3, high=3)
for dtype, low, high in ((np.int8, -128, 127), (np.uint8, 0, 255), (np.int16, -32768, 32767), (np.uint16, 0, 65535)):
    name = np.dtype(dtype).name
    scale, zero = np.float32(0.013), np.array(3, dtype)
    q = np.clip(np.rint(x / scale) + 3, low, high).astype(dtype)
    both(f"quantize_21_{name}", "QuantizeLinear", {"x": x, "s": scale, "z": zero}, q, 21, ["s", "z"])
    both(f"dequantize_21_{name}", "DequantizeLinear", {"x": q, "s": scale, "z": zero}, single((q.astype(f64) - 3) * scale), 21, ["s", "z"])
    scales, zeros = f32(6, low=0.01, high=0.05), rng.integers(0, 9, 6).astype(dtype)
    q = np.clip(np.rint(x / scales) + zeros, low, high).astype(dtype)
    both(f"quantize_13_axis_{name}" if name.endswith("8") else f"quantize_21_axis_{name}", "QuantizeLinear", {"x": x, "s": scales, "z": zeros}, q, 13 if name.endswith("8") else 21, ["s", "z"], axis=1)
blocks, zeros = f32(4, 3, low=0.01, high=0.05), rng.integers(-5, 5, (4, 3)).astype(np.int8)
q = np.clip(np.rint(x / blocks.repeat(2, 1)) + zeros.repeat(2, 1), -128, 127).astype(np.int8)
both("quantize_21_blocked", "QuantizeLinear", {"x": x, "s": blocks, "z": zeros}, q, 21, ["s", "z"], axis=1, block_size=2)
both("dequantize_21_blocked", "DequantizeLinear", {"x": q, "s": blocks, "z": zeros}, single((q.astype(f64) - zeros.repeat(2, 1)) * blocks.repeat(2, 1)), 21, ["s", "z"], axis=1, block_size=2)
case("quantize_23_output_dtype", "QuantizeLinear", {"x": x, "s": np.float32(0.02)}, np.clip(np.rint(x / np.float32(0.02)), -32768, 32767).astype(np.int16), 23, output_dtype=5)


def nibbles(dtype, values):
    v = np.asarray(values).reshape(-1) & 15
    v = np.append(v, np.zeros(len(v) % 2, v.dtype))
    return wire.Raw(dtype, np.shape(values), (v[0::2] | v[1::2] << 4).astype(np.uint8).tobytes())


scale = np.float32(0.3)
for dtype, low, high in (("int4", -8, 7), ("uint4", 0, 15)):
    q = np.clip(np.rint(x[:3, :5] / scale) + 2, low, high).astype(np.int64)
    both(f"quantize_21_{dtype}", "QuantizeLinear", {"x": x[:3, :5].copy(), "s": scale, "z": nibbles(dtype, np.array(2))}, nibbles(dtype, q), 21, ["s", "z"])
    both(f"dequantize_21_{dtype}", "DequantizeLinear", {"x": nibbles(dtype, q), "s": scale, "z": nibbles(dtype, np.array(2))}, single((q - 2.0) * scale), 21, ["s", "z"])
    case(f"cast_21_{dtype}_f32", "Cast", {"x": nibbles(dtype, q)}, single(q), 21, to=1)
    case(f"cast_21_i8_{dtype}", "Cast", {"x": q.astype(np.int8)}, nibbles(dtype, q), 21, to=wire.DTYPES[dtype])
    case(f"transpose_21_{dtype}", "Transpose", {"x": nibbles(dtype, q)}, nibbles(dtype, np.ascontiguousarray(q.T)), 21, perm=[1, 0])
a, b = rng.integers(0, 255, (5, 7)).astype(np.uint8), rng.integers(-128, 127, (7, 4)).astype(np.int8)
za, zb = np.uint8(7), rng.integers(-5, 5, 4).astype(np.int8)
exact = (a.astype(np.int64) - 7) @ (b.astype(np.int64) - zb)
both("matmulinteger_10", "MatMulInteger", {"a": a, "b": b, "za": za, "zb": zb}, exact.astype(np.int32), 10, ["b", "za", "zb"])
sa, sb, sy, zy = np.float32(0.02), f32(4, low=0.01, high=0.03), np.float32(0.11), np.uint8(101)
both("qlinearmatmul_21", "QLinearMatMul", {"a": a, "sa": sa, "za": za, "b": b, "sb": sb, "zb": zb, "sy": sy, "zy": zy},
     np.clip(np.rint(exact * (sa.astype(f64) * sb) / sy) + 101, 0, 255).astype(np.uint8), 21, ["sa", "za", "b", "sb", "zb", "sy", "zy"])

# narrow floating types: every code decodes to what the format's definition says


def decode(code, exponent_bits, mantissa_bits, bias, kind):
    width = 1 + exponent_bits + mantissa_bits
    sign, e, m = code >> (width - 1), code >> mantissa_bits & (1 << exponent_bits) - 1, code & (1 << mantissa_bits) - 1
    top = (1 << exponent_bits) - 1
    if kind == "fnuz" and code == 1 << (width - 1):
        return math.nan
    if kind == "fn" and e == top and m == (1 << mantissa_bits) - 1:
        return math.nan
    if kind == "ieee" and e == top:
        return math.nan if m else (-math.inf if sign else math.inf)
    v = m * 2.0 ** (1 - bias - mantissa_bits) if e == 0 else (1 + m / (1 << mantissa_bits)) * 2.0 ** (e - bias)
    return -v if sign else v


formats = {"float8e4m3fn": (4, 3, 7, "fn"), "float8e4m3fnuz": (4, 3, 8, "fnuz"), "float8e5m2": (5, 2, 15, "ieee"), "float8e5m2fnuz": (5, 2, 16, "fnuz")}
for dtype, form in formats.items():
    table = single([decode(i, *form) for i in range(256)])
    codes = wire.Raw(dtype, (256,), bytes(range(256)))
    case(f"cast_19_{dtype}_f32", "Cast", {"x": codes}, table, 19, to=1)
    good = [i for i in range(256) if np.isfinite(table[i]) and not (table[i] == 0 and i > 0)]
    case(f"cast_19_f32_{dtype}", "Cast", {"x": table[good]}, wire.Raw(dtype, (len(good),), bytes(good)), 19, to=wire.DTYPES[dtype])
    finite = table[np.isfinite(table)]
    case(f"cast_19_f32_{dtype}_saturates", "Cast", {"x": single([1e9, -1e9])}, wire.Raw(dtype, (2,), bytes(int(np.where(table == e)[0][0]) for e in (finite.max(), finite.min()))), 19, to=wire.DTYPES[dtype])
table = single([decode(i, 2, 1, 1, "none") for i in range(16)])
case("cast_23_f4_f32", "Cast", {"x": nibbles("float4e2m1", np.arange(16))}, table, 23, to=1)
case("cast_23_f32_f4", "Cast", {"x": single([0.2, 0.8, 1.3, 2.4, 5.1, -7, 100])}, nibbles("float4e2m1", np.array([0, 2, 3, 4, 7, 15, 7])), 23, to=23)
bf = lambda v: wire.Raw("bfloat16", np.shape(v), (single(v).view(np.uint32) + (((single(v).view(np.uint32) >> 16) & 1) + 0x7FFF) >> 16).astype(np.uint16).tobytes())
v = f32(3, 4)
case("cast_13_f32_bf16", "Cast", {"x": v}, bf(v), 13, to=16)
for op, f in (("Add", np.add), ("Mul", np.multiply)):
    trunc = lambda a: (a.view(np.uint32) & 0xFFFF0000).view(np.float32)
    a, b = trunc(f32(2, 5)), trunc(f32(2, 5))
    case(f"{op.lower()}_14_bf16", op, {"a": bf(a), "b": bf(b)}, bf(f(a.astype(f64), b)), 14)
case("identity_25_complex", "Identity", {"x": np.array([1 + 2j, 3 - 1j], np.complex64)}, np.array([1 + 2j, 3 - 1j], np.complex64), 21)
case("reshape_21_complex", "Reshape", {"x": np.array([[1 + 2j, 3 - 1j]], np.complex128), "s": I(2)}, np.array([1 + 2j, 3 - 1j], np.complex128), 21, ["s"])
case("concat_13_strings", "Concat", {"a": np.array(["oak", "ash"]), "b": np.array(["elm"])}, np.array(["oak", "ash", "elm"]), 13, axis=0)
case("gather_13_strings", "Gather", {"x": np.array(["oak", "ash", "elm"]), "i": I(2, 0)}, np.array(["elm", "oak"]), 13)
case("where_16_strings", "Where", {"c": np.array([True, False]), "a": np.array(["oak", "ash"]), "b": np.array(["x", "y"])}, np.array(["oak", "y"]), 16)
case("equal_19_strings", "Equal", {"a": np.array(["oak", "ash"]), "b": np.array(["oak", "elm"])}, np.array([True, False]), 19)
case("reducemax_20_bool", "ReduceMax", {"x": np.array([[True, False], [False, False]]), "a": I(1)}, np.array([[True], [False]]), 20, ["a"])
case("reducemin_20_bool", "ReduceMin", {"x": np.array([[True, True], [True, False]]), "a": I(1)}, np.array([[True], [False]]), 20, ["a"])

# ---- elementwise ----
x = f32(3, 7, low=-4, high=4)
d = x.astype(f64)
case("gelu_20", "Gelu", {"x": x}, single(0.5 * d * (1 + erf(d / math.sqrt(2)))), 20)
case("gelu_20_tanh", "Gelu", {"x": x}, single(0.5 * d * (1 + np.tanh(math.sqrt(2 / math.pi) * (d + 0.044715 * d ** 3)))), 20, approximate="tanh")
case("mish_18", "Mish", {"x": x}, single(d * np.tanh(np.log1p(np.exp(d)))), 18)
case("swish_24", "Swish", {"x": x}, single(d * sigmoid(np.float32(1.7) * d)), 24, alpha=1.7)
case("shrink_9", "Shrink", {"x": x}, single(np.where(d < -1.5, d + 0.5, np.where(d > 1.5, d - 0.5, 0))), 9, lambd=1.5, bias=0.5)
for dtype in (np.uint8, np.int16, np.uint32, np.int64, np.uint64):
    a, b = (rng.integers(0, 100, 12).astype(dtype) for _ in range(2))
    for op, f in (("BitwiseAnd", np.bitwise_and), ("BitwiseOr", np.bitwise_or), ("BitwiseXor", np.bitwise_xor)):
        case(f"{op.lower()}_18_{np.dtype(dtype).name}", op, {"a": a, "b": b}, f(a, b), 18)
    case(f"bitwisenot_18_{np.dtype(dtype).name}", "BitwiseNot", {"a": a}, ~a, 18)
shift = rng.integers(0, 7, 12)
for dtype in (np.uint8, np.uint16, np.uint32, np.uint64):
    a = rng.integers(0, 255, 12).astype(dtype)
    case(f"bitshift_11_left_{np.dtype(dtype).name}", "BitShift", {"a": a, "b": shift.astype(dtype)}, a << shift.astype(dtype), 11, direction="LEFT")
    case(f"bitshift_11_right_{np.dtype(dtype).name}", "BitShift", {"a": a, "b": shift.astype(dtype)}, a >> shift.astype(dtype), 11, direction="RIGHT")
case("isinf_20_f16", "IsInf", {"x": np.array([1, np.inf, -np.inf, np.nan], np.float16)}, np.array([False, True, True, False]), 20)

# ---- products by equation ----
a, b, e = f32(2, 3, 4), f32(2, 4, 5), f32(3, 5)
for name, equation, operands in (("batched", "bij,bjk->bik", (a, b)), ("implicit", "bij,bjk", (a, b)), ("three", "bij,bjk,ik->b", (a, b, e)), ("ellipsis", "...ij,...jk->...ik", (a, b)), ("transpose", "ijk->kji", (a,)), ("trace", "ii->", (f32(4, 4),)), ("diagonal", "ii->i", (f32(4, 4),)),
                                 ("outer", "i,j->ij", (f32(3), f32(4))), ("sum", "ij->j", (e,)), ("broadcast", "...i,...i->...", (a, f32(1, 3, 4)))):
    case(f"einsum_12_{name}", "Einsum", {f"x{i}": o for i, o in enumerate(operands)}, single(np.einsum(equation, *(o.astype(f64) for o in operands))), 12, equation=equation)
x = f32(3, 5, 5)
case("det_22", "Det", {"x": x}, single(np.linalg.det(x.astype(f64))), 22)

# ---- text ----
words = np.array(["red oak", "ash", "", "  a  b "])
case("stringsplit_20", "StringSplit", {"x": words}, [np.array([["red", "oak"], ["ash", ""], ["", ""], ["a", "b"]]), I(2, 1, 0, 2)], 20)
case("stringsplit_20_delimiter", "StringSplit", {"x": np.array(["a,b,,c", "d"])}, [np.array([["a", "b", ",c"], ["d", "", ""]]), I(3, 1)], 20, delimiter=",", maxsplit=2)
case("stringconcat_20", "StringConcat", {"a": np.array([["x"], ["y"]]), "b": np.array(["1", "2", "3"])}, np.array([["x1", "x2", "x3"], ["y1", "y2", "y3"]]), 20)
case("regex_20", "RegexFullMatch", {"x": np.array(["board_12", "board_", "plank_3"])}, np.array([True, False, False]), 20, pattern=r"board_\d+")
case("normalizer_10_utf8", "StringNormalizer", {"x": np.array(["Äpfel", "BIRNE", "élan"])}, np.array(["äpfel", "élan"]), 10, case_change_action="LOWER", stopwords=["birne"])

# ---- losses, pooling ----
x, t = f32(3, 5, 2), rng.integers(0, 5, (3, 2)).astype(np.int64)
t[0, 1] = 2
logp = x.astype(f64) - np.log(np.exp(x.astype(f64)).sum(1, keepdims=True))
w = f32(5, low=0.1)
picked = np.take_along_axis(logp, t[:, None], 1)[:, 0]
weight = np.where(t == 2, 0, w[t])
case("softmaxcrossentropy_13_ignore", "SoftmaxCrossEntropyLoss", {"x": x, "t": t, "w": w}, [single(-(weight * picked).sum() / weight.sum()), single(logp)], 13, ignore_index=2)
x = f32(1, 2, 9, 9)
for p in (1, 2, 3):
    windows = np.stack([x[:, :, i * 2:i * 2 + 5, j * 2:j * 2 + 5] for i in range(3) for j in range(3)])
    case(f"lppool_18_dilated_p{p}", "LpPool", {"x": x}, single((np.abs(windows.astype(f64)) ** p).sum(0) ** (1 / p)), 18, kernel_shape=[3, 3], dilations=[2, 2], p=p)

# ---- control flow: bodies that read what is around them, nested ----
i64, boolean = lambda n, d=(): wire.value(n, "int64", d), lambda n: wire.value(n, "bool", ())
f = lambda n, d=None: wire.value(n, "float32", d)
body = wire.graph("body", [wire.node("Add", ["acc", "step"], ["next"]), wire.node("Identity", ["going"], ["on"]), wire.node("Identity", ["next"], ["row"])],
                  [i64("i"), boolean("going"), f("acc", [2])], [boolean("on"), f("next", [2]), f("row", [2])])
for trips in (0, 1, 4):
    start, step = f32(2), f32(2)
    rows = single([start + step * (k + 1) for k in range(trips)]).reshape(trips, 2)
    model = wire.model("loop", [wire.node("Loop", ["n", "", "start"], ["end", "rows"], body=body)], [i64("n"), f("start", [2]), f("step", [2])], [f("end", [2]), f("rows", ["t", 2])], {}, opset=21)
    whole(f"loop_21_{trips}_trips", model, [("n", np.array(trips, np.int64)), ("start", start), ("step", step)], [("end", start + np.float32(trips) * step), ("rows", rows)])
inner = lambda op: wire.graph("branch", [wire.node(op, ["x", "y"], ["out"])], [], [f("out")])
nested = wire.graph("outer", [wire.node("If", ["second"], ["picked"], then_branch=inner("Mul"), else_branch=inner("Sub"))], [], [f("picked")])
for first, second in itertools.product((True, False), (True, False)):
    x, y = f32(3), f32(3)
    model = wire.model("nested", [wire.node("If", ["first"], ["z"], then_branch=nested, else_branch=inner("Add"))], [boolean("first"), boolean("second"), f("x", [3]), f("y", [3])], [f("z")], {}, opset=16)
    whole(f"if_16_nested_{int(first)}{int(second)}", model, [("first", np.array(first)), ("second", np.array(second)), ("x", x), ("y", y)], [("z", (x * y if second else x - y) if first else x + y)])
body = wire.graph("body", [wire.node("Mul", ["h", "decay"], ["kept"]), wire.node("Add", ["kept", "x"], ["h2"]), wire.node("Identity", ["h2"], ["y"])], [f("h", [3]), f("x", [3])], [f("h2", [3]), f("y", [3])])
h0, xs, decay = f32(3), f32(5, 3), np.float32(0.5)
hs = [h0]
for t in range(5):
    hs.append(hs[-1] * decay + xs[t])
model = lambda **k: wire.model("scan", [wire.node("Scan", ["h0", "xs"], ["h", "ys"], body=body, num_scan_inputs=1, **k)], [f("h0", [3]), f("xs", [5, 3]), f("decay", [])], [f("h", [3]), f("ys")], {}, opset=21)
whole("scan_21", model(), [("h0", h0), ("xs", xs), ("decay", decay)], [("h", hs[-1]), ("ys", single(hs[1:]))])
back = [h0]
for t in reversed(range(5)):
    back.append(back[-1] * decay + xs[t])
whole("scan_21_backwards", model(scan_input_directions=[1], scan_output_directions=[1], scan_output_axes=[1]), [("h0", h0), ("xs", xs), ("decay", decay)], [("h", back[-1]), ("ys", np.ascontiguousarray(single(back[:0:-1]).T))])

# a greedy generation loop: embed the last token, score the vocabulary, append the best, stop at the end token or the limit
vocabulary, width, end_token = 11, 6, 3
table, scores = f32(vocabulary, width), f32(width, vocabulary)
body = wire.graph("step", [
    wire.node("Gather", ["tokens", "minus_one"], ["last"], axis=1), wire.node("Gather", ["table", "last"], ["e"]), wire.node("MatMul", ["e", "scores"], ["logits"]), wire.node("ArgMax", ["logits"], ["best"], axis=1, keepdims=1),
    wire.node("Concat", ["tokens", "best"], ["longer"], axis=1), wire.node("Equal", ["best", "end"], ["ended"]), wire.node("Not", ["ended"], ["more"]), wire.node("Squeeze", ["more"], ["on"])],
    [i64("i"), boolean("going"), i64("tokens", [1, None])], [boolean("on"), i64("longer", [1, None])])
model = wire.model("greedy", [wire.node("Loop", ["limit", "", "prompt"], ["sentence"], body=body)], [i64("limit"), i64("prompt", [1, "words"])], [i64("sentence", [1, None])],
                   {"table": table, "scores": scores, "minus_one": np.array(-1, np.int64), "end": I(end_token).reshape(1, 1)}, opset=17)
for first in (0, 5, 7):
    tokens = [first]
    for _ in range(8):
        tokens.append(int(np.argmax(table[tokens[-1]].astype(f64) @ scores)))
        if tokens[-1] == end_token:
            break
    whole(f"greedy_generation_{first}", model, [("limit", np.array(8, np.int64)), ("prompt", I(first).reshape(1, 1))], [("sentence", I(*tokens).reshape(1, -1))])

# ---- sequences and optionals ----
x = f32(5, 4)
seq = wire.sequence_type(wire.tensor_type("float32"))
for name, parts, split in (("scalar", [x[:2], x[2:4], x[4:]], np.array(2, np.int64)), ("list", [x[:1], x[1:]], I(1, 4))):
    model = wire.model("split", [wire.node("SplitToSequence", ["x", "s"], ["q"], axis=0)], [f("x", [5, 4])], [wire.value("q", seq)], {"s": split}, opset=24)
    whole(f"splittosequence_24_{name}", model, [("x", x)], [("q", wire.sequence(parts, "q"))])
model = wire.model("walk", [wire.node("SequenceEmpty", [], ["none"]), wire.node("SequenceInsert", ["none", "a"], ["one"]), wire.node("SequenceInsert", ["one", "b", "zero"], ["two"]), wire.node("SequenceErase", ["two", "one_"], ["left"]),
                            wire.node("SequenceLength", ["two"], ["n"]), wire.node("SequenceAt", ["left", "zero"], ["back"]), wire.node("ConcatFromSequence", ["two"], ["joined"], axis=0)],
                   [f("a", [2, 3]), f("b", [1, 3])], [i64("n"), f("back"), f("joined")], {"zero": np.array(0, np.int64), "one_": np.array(1, np.int64)}, opset=17)
a, b = f32(2, 3), f32(1, 3)
whole("sequence_walk", model, [("a", a), ("b", b)], [("n", np.array(2, np.int64)), ("back", b), ("joined", np.concatenate([b, a]))])
opt = wire.optional_type(wire.tensor_type("float32", [3]))
model = wire.model("ask", [wire.node("OptionalHasElement", ["o"], ["has"])], [wire.value("o", opt)], [boolean("has")], {}, opset=18)
for held in (True, False):
    whole(f"optional_18_has_{int(held)}", model, [("o", wire.optional(f32(3) if held else None, "o"))], [("has", np.array(held))])
case("optionalgetelement_18_tensor", "OptionalGetElement", {"x": x}, x, 18)

# ---- model-local functions: nested, attributes passed on, an opset of their own ----
leaky = wire.function("alder", "Soft", ["v"], ["w"], [wire.node("LeakyRelu", ["v"], ["w"], name="act", alpha=(wire.Reference("slope"), 1))], {"": 16}, defaults={"slope": 0.25})
layer = wire.function("alder", "Layer", ["x", "m"], ["y"], [wire.node("MatMul", ["x", "m"], ["p"], name="mul"), wire.node("Soft", ["p"], ["s"], name="soft", domain="alder", slope=(wire.Reference("slope"), 1)),
                                                           wire.node("Softmax", ["s"], ["y"], name="normalise")], {"": 11, "alder": 1}, attributes=["slope"])
plainer = wire.function("alder", "Plain", ["x", "m"], ["y"], [wire.node("MatMul", ["x", "m"], ["p"], name="mul"), wire.node("Soft", ["p"], ["y"], name="soft", domain="alder")], {"": 16, "alder": 1})
m1, m2, x = f32(4, 5), f32(5, 3), f32(2, 4)
model = wire.model("layers", [wire.node("Layer", ["x", "m1"], ["h"], name="first", domain="alder", slope=0.5), wire.node("Plain", ["h", "m2"], ["y"], name="second", domain="alder")],
                   [f("x", [2, 4])], [f("y", [2, 3])], {"m1": m1, "m2": m2}, opset=21, domains={"alder": 1}, functions=[leaky, layer, plainer])
p = x.astype(f64) @ m1
s = np.where(p < 0, 0.5 * p, p)
h = np.exp(s - s.max(1, keepdims=True))
h = h / h.sum(1, keepdims=True)
y = h @ m2
whole("functions_nested", model, [("x", x)], [("y", single(np.where(y < 0, 0.25 * y, y)))])
open_body = wire.function("alder", "Choose", ["c", "x"], ["y"], [wire.node("If", ["c"], ["y"], then_branch=wire.graph("t", [wire.node("Neg", ["x"], ["r"])], [], [f("r")]), else_branch=wire.graph("e", [wire.node("Soft", ["x"], ["r"], domain="alder", slope=(wire.Reference("k"), 1))], [], [f("r")]))], {"": 16, "alder": 1}, attributes=["k"])
model = wire.model("choose", [wire.node("Choose", ["c", "x"], ["y"], domain="alder", k=0.125)], [boolean("c"), f("x", [2, 4])], [f("y")], {}, opset=16, domains={"alder": 1}, functions=[leaky, open_body])
for c in (True, False):
    whole(f"functions_with_branches_{int(c)}", model, [("c", np.array(c)), ("x", x)], [("y", -x if c else single(np.where(x < 0, 0.125 * x, x)))])

# ---- the companion domain ----
ml = dict(domain="ai.onnx.ml", version=3)
x = f32(6, 3)
case("ml_scaler", "Scaler", {"x": x}, single((x - single([1, 2, 3])) * single([0.5, 2, 1])), 17, **ml, offset=[1.0, 2.0, 3.0], scale=[0.5, 2.0, 1.0])
case("ml_normalizer_l2", "Normalizer", {"x": x}, single(x / np.linalg.norm(x.astype(f64), axis=1, keepdims=True)), 17, **ml, norm="L2")
case("ml_imputer", "Imputer", {"x": single([[1, np.nan], [np.nan, 4]])}, single([[1, 8], [7, 4]]), 17, **ml, imputed_value_floats=[7.0, 8.0], replaced_value_float=math.nan)
case("ml_binarizer", "Binarizer", {"x": x}, single(x > np.float32(0.3)), 17, **ml, threshold=0.3)
case("ml_arrayfeature", "ArrayFeatureExtractor", {"x": x, "i": I(2, 0)}, x[:, [2, 0]], 17, **ml)
case("ml_onehot", "OneHotEncoder", {"x": np.array(["oak", "fir", "ash"])}, single([[1, 0], [0, 0], [0, 1]]), 17, **ml, cats_strings=["oak", "ash"])
case("ml_label_strings", "LabelEncoder", {"x": np.array(["oak", "fir"])}, I(4, -7), 17, **ml, keys_strings=["oak", "ash"], values_int64s=[4, 5], default_int64=-7)
case("ml_label_floats", "LabelEncoder", {"x": single([1.5, 9])}, np.array(["low", "?"]), 17, **ml, keys_floats=[1.5], values_strings=["low"], default_string="?")
weights, bias = f32(3, 3), f32(3)
scores = x.astype(f64) @ weights.T + bias
e = np.exp(scores - scores.max(1, keepdims=True))
case("ml_linear_softmax", "LinearClassifier", {"x": x}, [np.array(["oak", "ash", "elm"])[scores.argmax(1)], single(e / e.sum(1, keepdims=True))], 17, **ml, coefficients=[float(v) for v in weights.reshape(-1)], intercepts=[float(v) for v in bias],
     classlabels_strings=["oak", "ash", "elm"], post_transform="SOFTMAX")
case("ml_linear_regressor", "LinearRegressor", {"x": x}, single(scores), 17, **ml, coefficients=[float(v) for v in weights.reshape(-1)], intercepts=[float(v) for v in bias], targets=3)
# two trees: feature 0 at 0.1, feature 1 at -0.2 below it; feature 2 at 0.3
left = np.where(x[:, 0] <= np.float32(0.1), np.where(x[:, 1] <= np.float32(-0.2), 1.0, 2.0), 4.0) + np.where(x[:, 2] <= np.float32(0.3), 0.25, 0.5)
nodes = dict(nodes_treeids=[0, 0, 0, 0, 0, 1, 1, 1], nodes_nodeids=[0, 1, 2, 3, 4, 0, 1, 2], nodes_featureids=[0, 1, 0, 0, 0, 2, 0, 0], nodes_modes=["BRANCH_LEQ", "BRANCH_LEQ", "LEAF", "LEAF", "LEAF", "BRANCH_LEQ", "LEAF", "LEAF"],
             nodes_values=[0.1, -0.2, 0.0, 0.0, 0.0, 0.3, 0.0, 0.0], nodes_truenodeids=[1, 2, 0, 0, 0, 1, 0, 0], nodes_falsenodeids=[4, 3, 0, 0, 0, 2, 0, 0])
case("ml_tree_regressor", "TreeEnsembleRegressor", {"x": x}, single(left + 10)[:, None], 17, **ml, **nodes, target_treeids=[0, 0, 0, 1, 1], target_nodeids=[2, 3, 4, 1, 2], target_ids=[0, 0, 0, 0, 0], target_weights=[1.0, 2.0, 4.0, 0.25, 0.5],
     base_values=[10.0], n_targets=1)
case("ml_tree_regressor_average", "TreeEnsembleRegressor", {"x": x}, single(left / 2)[:, None], 17, **ml, **nodes, target_treeids=[0, 0, 0, 1, 1], target_nodeids=[2, 3, 4, 1, 2], target_ids=[0, 0, 0, 0, 0], target_weights=[1.0, 2.0, 4.0, 0.25, 0.5],
     aggregate_function="AVERAGE", n_targets=1)
votes = np.zeros((6, 3))
for i in range(6):
    votes[i, 0 if x[i, 0] <= np.float32(0.1) and x[i, 1] <= np.float32(-0.2) else 1 if x[i, 0] <= np.float32(0.1) else 2] += 0.6
    votes[i, 1 if x[i, 2] <= np.float32(0.3) else 2] += 0.3
case("ml_tree_classifier", "TreeEnsembleClassifier", {"x": x}, [votes.argmax(1).astype(np.int64) + 10, single(votes)], 17, **ml, **nodes, class_treeids=[0, 0, 0, 1, 1], class_nodeids=[2, 3, 4, 1, 2], class_ids=[0, 1, 2, 1, 2],
     class_weights=[0.6, 0.6, 0.6, 0.3, 0.3], classlabels_int64s=[10, 11, 12])
five = dict(domain="ai.onnx.ml", version=5, tree_roots=[0, 2], nodes_featureids=[0, 1, 2], nodes_splits=single([0.1, -0.2, 0.3]), nodes_modes=np.array([0, 0, 0], np.uint8), nodes_truenodeids=[1, 0, 3], nodes_trueleafs=[0, 1, 1],
            nodes_falsenodeids=[2, 1, 4], nodes_falseleafs=[1, 1, 1], leaf_targetids=[0, 0, 0, 0, 0], leaf_weights=single([1, 2, 4, 0.25, 0.5]), n_targets=1)
case("ml_tree_ensemble", "TreeEnsemble", {"x": x}, single(left)[:, None], 21, **five)
support, alpha = f32(4, 3), f32(4)
for kernel, k in (("RBF", lambda a, b: np.exp(-0.5 * ((a - b) ** 2).sum())), ("POLY", lambda a, b: (0.5 * (a @ b) + 1) ** 2), ("LINEAR", lambda a, b: a @ b), ("SIGMOID", lambda a, b: np.tanh(0.5 * (a @ b) + 1))):
    y = [sum(alpha[j] * k(row.astype(f64), support[j].astype(f64)) for j in range(4)) + 0.75 for row in x]
    case(f"ml_svm_regressor_{kernel.lower()}", "SVMRegressor", {"x": x}, single(y)[:, None], 17, **ml, kernel_type=kernel, kernel_params=[0.5, 1.0, 2.0], coefficients=[float(v) for v in alpha], support_vectors=[float(v) for v in support.reshape(-1)], rho=[0.75], n_supports=4)

print(f"{harness.count} cases written")
