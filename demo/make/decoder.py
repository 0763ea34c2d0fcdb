"""A small decoder of attention in numpy: forward with keys and values carried along, gradients, export with them as states."""
import numpy as np

import onnx_wire as wire


def turns(width):
    return 1 / 1000 ** (np.arange(width // 2) / (width // 2))


def places(positions, width):
    a = np.asarray(positions, np.float64)[:, None] * turns(width)
    return np.concatenate([np.sin(a), np.cos(a)], axis=1)


class Decoder:
    """Table of words, blocks of attention and two dense layers each normalised before, scores of words."""

    def __init__(self, words, width=64, heads=4, layers=2, seed=3):
        self.width, self.heads, self.layers, self.each = width, heads, layers, width // heads
        rng = np.random.default_rng(seed)
        normal = lambda *s: (rng.standard_normal(s) / np.sqrt(s[0])).astype(np.float32)
        self.params = ["table", "out", "gain", "shift"]
        self.table = (0.5 * rng.standard_normal((words, width))).astype(np.float32)
        self.out, self.gain, self.shift = normal(width, words), np.ones(width, np.float32), np.zeros(width, np.float32)
        for l in range(layers):
            for name, value in (("q", normal(width, width)), ("k", normal(width, width)), ("v", normal(width, width)),
                                ("o", normal(width, width)), ("up", normal(width, 4 * width)), ("ub", np.zeros(4 * width, np.float32)),
                                ("down", normal(4 * width, width)), ("g1", np.ones(width, np.float32)), ("s1", np.zeros(width, np.float32)),
                                ("g2", np.ones(width, np.float32)), ("s2", np.zeros(width, np.float32))):
                setattr(self, f"{name}{l}", value)
                self.params.append(f"{name}{l}")

    def get(self, name, dtype):
        return getattr(self, name).astype(dtype)

    def norm(self, x, gain, shift, keep):
        centred = x - x.mean(-1, keepdims=True)
        spread = 1 / np.sqrt((centred * centred).mean(-1, keepdims=True) + 1e-5)
        hat = centred * spread
        keep.append((hat, spread))
        return hat * gain + shift

    def unnorm(self, dy, gain, kept, dgain, dshift):
        hat, spread = kept
        setattr(self, "d" + dgain, (dy * hat).sum(tuple(range(dy.ndim - 1))))
        setattr(self, "d" + dshift, dy.sum(tuple(range(dy.ndim - 1))))
        dh = dy * gain
        return spread * (dh - dh.mean(-1, keepdims=True) - hat * (dh * hat).mean(-1, keepdims=True))

    def embed(self, tokens, dtype=np.float32):
        return self.get("table", dtype)[tokens]

    def forward(self, x, past=None, dtype=np.float32):
        """x [batch, new, width]; past: for each layer keys and values [batch, heads, held, each]. Scores, and all keys and values then."""
        p = lambda name: self.get(name, dtype)
        batch, new, _ = x.shape
        held = past[0][0].shape[2] if past else 0
        self.kept, states = [], []
        x = x + places(np.arange(held, held + new), self.width).astype(dtype)
        split = lambda y: y.reshape(batch, -1, self.heads, self.each).transpose(0, 2, 1, 3)
        ahead = np.arange(held + new)[None, :] > np.arange(held, held + new)[:, None]
        for l in range(self.layers):
            keep = []
            n = self.norm(x, p(f"g1{l}"), p(f"s1{l}"), keep)
            q, k, v = split(n @ p(f"q{l}")), split(n @ p(f"k{l}")), split(n @ p(f"v{l}"))
            if past:
                k, v = np.concatenate([past[l][0], k], 2), np.concatenate([past[l][1], v], 2)
            states.append((k, v))
            s = q @ k.transpose(0, 1, 3, 2) / np.sqrt(self.each).astype(dtype)
            s = np.where(ahead, dtype(-1e30), s)
            e = np.exp(s - s.max(-1, keepdims=True))
            a = e / e.sum(-1, keepdims=True)
            m = (a @ v).transpose(0, 2, 1, 3).reshape(batch, new, self.width)
            x = x + m @ p(f"o{l}")
            n2 = self.norm(x, p(f"g2{l}"), p(f"s2{l}"), keep)
            h = n2 @ p(f"up{l}") + p(f"ub{l}")
            r = np.maximum(h, 0)
            x = x + r @ p(f"down{l}")
            self.kept.append((keep, n, q, k, v, a, m, n2, h, r))
        keep = []
        y = self.norm(x, p("gain"), p("shift"), keep)
        self.last = keep, y
        return y @ p("out"), states

    def backward(self, dscores):
        """Gives the gradient of x."""
        flat = lambda t: t.reshape(-1, t.shape[-1])
        keep, y = self.last
        self.dout = flat(y).T @ flat(dscores)
        dx = self.unnorm(dscores @ self.out.T, self.gain, keep[0], "gain", "shift")
        batch, new, _ = dscores.shape
        joined = lambda t: t.transpose(0, 2, 1, 3).reshape(batch, new, self.width)
        for l in reversed(range(self.layers)):
            keep, n, q, k, v, a, m, n2, h, r = self.kept[l]
            w = lambda name: getattr(self, f"{name}{l}")
            put = lambda name, value: setattr(self, f"d{name}{l}", value)
            put("down", flat(r).T @ flat(dx))
            dh = (dx @ w("down").T) * (h > 0)
            put("up", flat(n2).T @ flat(dh))
            put("ub", flat(dh).sum(0))
            dx = dx + self.unnorm(dh @ w("up").T, w("g2"), keep[1], f"g2{l}", f"s2{l}")
            put("o", flat(m).T @ flat(dx))
            dm = (dx @ w("o").T).reshape(batch, new, self.heads, self.each).transpose(0, 2, 1, 3)
            da = dm @ v.transpose(0, 1, 3, 2)
            dv = a.transpose(0, 1, 3, 2) @ dm
            ds = a * (da - (da * a).sum(-1, keepdims=True)) / np.float32(np.sqrt(self.each))
            dq, dk = ds @ k, ds.transpose(0, 1, 3, 2) @ q
            dn = 0
            for name, d in (("q", dq), ("k", dk), ("v", dv)):
                d = joined(d)
                put(name, flat(n).T @ flat(d))
                dn = dn + d @ w(name).T
            dx = dx + self.unnorm(dn, w("g1"), keep[0], f"g1{l}", f"s1{l}")
        return dx

    def unembed(self, tokens, dx):
        self.dtable = np.zeros_like(self.table)
        np.add.at(self.dtable, tokens.reshape(-1), dx.reshape(-1, self.width))


def losses(scores, targets):
    top = scores - scores.max(-1, keepdims=True)
    logs = top - np.log(np.exp(top).sum(-1, keepdims=True))
    return logs, -np.take_along_axis(logs, targets[..., None], -1)[..., 0]


class Writer:
    """Nodes, weights, inputs and outputs of a model, as they are added."""

    def __init__(self):
        self.nodes, self.weights, self.inputs, self.outputs = [], {}, [], []

    def add(self, op, inputs, output, **attributes):
        first = output if isinstance(output, str) else output[0]
        self.nodes.append(wire.node(op, inputs, [output] if isinstance(output, str) else output, first, **attributes))
        return output

    def weight(self, name, value):
        self.weights[name] = np.ascontiguousarray(value)
        return name

    def model(self, name, **how):
        return wire.model(name, self.nodes, self.inputs, self.outputs, self.weights, **how)


def export_decoder(net, out, embedded, new=None):
    """Adds the decoder to a Writer. embedded: gives the name of a value that holds the new tokens, [batch, new, width]. new: gives that of
    how many they are; without it inputs say where tokens stand, and what of all there is counts: sequences of several lengths in a batch."""
    width, heads, each = net.width, net.heads, net.each
    add, weight = out.add, out.weight
    dims = ["batch", heads, "held", each]
    out.outputs.append(wire.value("scores", "float32", ["batch", "new", net.out.shape[1]]))
    if new:
        held = add("Gather", [add("Shape", ["past.0.keys"], "held.shape"), weight("two", np.int64(2))], "held")
        at = add("Range", [held, add("Add", [held, new()], "all"), weight("step", np.int64(1))], "at")
        seen = ""
    else:
        at = "positions"
        out.inputs += [wire.value(at, "int64", ["batch", "new"]), wire.value("mask", "int64", ["batch", "all"])]
        seen = add("Unsqueeze", [add("Cast", ["mask"], "mask.bool", to=9), weight("heads_and_new", np.array([1, 2]))], "seen")
    turned = add("MatMul", [add("Unsqueeze", [add("Cast", [at], "at.floats", to=1), weight("last", np.array([1 if new else -1]))], "at.column"),
                           weight("turns", turns(width).astype(np.float32)[None])], "turned")
    place = add("Concat", [add("Sin", [turned], "sines"), add("Cos", [turned], "cosines")], "places", axis=1 if new else -1)
    x = add("Add", [embedded(), place], "embedded")
    for l in range(net.layers):
        w = lambda name, short: weight(f"{l}.{name}", getattr(net, f"{short}{l}"))
        n = add("LayerNormalization", [x, w("norm1.gain", "g1"), w("norm1.shift", "s1")], f"{l}.norm1", epsilon=1e-5)

        def part(short, name):
            flat = add("MatMul", [n, w(name, short)], f"{l}.{name}.flat")
            return add("Transpose", [add("Reshape", [flat, weight("heads", np.array([0, 0, heads, each]))], f"{l}.{name}.heads")], f"{l}.{name}.turned",
                       perm=[0, 2, 1, 3])

        past = [f"past.{l}.keys", f"past.{l}.values"]
        present = [f"present.{l}.keys", f"present.{l}.values"]
        out.inputs += [wire.value(p, "float32", dims) for p in past]
        out.outputs += [wire.value(p, "float32", ["batch", heads, "held and new", each]) for p in present]
        mixed = add("Attention", [part("q", "queries"), part("k", "keys"), part("v", "values"), seen, *past], [f"{l}.mixed", *present], is_causal=1)[0]
        joined = add("Reshape", [add("Transpose", [mixed], f"{l}.mixed.turned", perm=[0, 2, 1, 3]), weight("joined", np.array([0, 0, width]))],
                     f"{l}.joined")
        x = add("Add", [x, add("MatMul", [joined, w("mix", "o")], f"{l}.mix.out")], f"{l}.attended")
        n = add("LayerNormalization", [x, w("norm2.gain", "g2"), w("norm2.shift", "s2")], f"{l}.norm2", epsilon=1e-5)
        up = add("Add", [add("MatMul", [n, w("up", "up")], f"{l}.up.out"), w("up.bias", "ub")], f"{l}.up.biased")
        down = add("MatMul", [add("Relu", [up], f"{l}.relu"), w("down", "down")], f"{l}.down.out")
        x = add("Add", [x, down], f"{l}.out")
    n = add("LayerNormalization", [x, weight("gain", net.gain), weight("shift", net.shift)], "normed", epsilon=1e-5)
    add("MatMul", [n, weight("out", net.out)], "scores")
