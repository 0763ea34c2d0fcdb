"""Trains a small decoder of attention on made-up workshop notes with numpy alone, exports it with states and vocabulary, and writes what a
float64 loop makes of some beginnings.

usage: make_notes.py [FOLDER [STEPS]]
"""
import json
import os
import sys

import numpy as np

import onnx_wire as wire
from notes_text import Pairs, notes
from training import Adam

WIDTH, HEADS, LAYERS, LENGTH, WORDS = 64, 4, 2, 72, 382  # and begin and end
EACH = WIDTH // HEADS


def angles(positions):
    return positions[:, None] * (1 / 1000 ** (np.arange(WIDTH // 2) / (WIDTH // 2)))


def places(positions):
    a = angles(np.asarray(positions, np.float64))
    return np.concatenate([np.sin(a), np.cos(a)], axis=1)


class Net:
    def __init__(self, words, seed=3):
        rng = np.random.default_rng(seed)
        normal = lambda *s: (rng.standard_normal(s) / np.sqrt(s[0])).astype(np.float32)
        self.params = ["table", "out", "gain", "shift"]
        self.table = (0.5 * rng.standard_normal((words, WIDTH))).astype(np.float32)
        self.out, self.gain, self.shift = normal(WIDTH, words), np.ones(WIDTH, np.float32), np.zeros(WIDTH, np.float32)
        for l in range(LAYERS):
            for name, value in (("q", normal(WIDTH, WIDTH)), ("k", normal(WIDTH, WIDTH)), ("v", normal(WIDTH, WIDTH)),
                                ("o", normal(WIDTH, WIDTH)), ("up", normal(WIDTH, 4 * WIDTH)), ("ub", np.zeros(4 * WIDTH, np.float32)),
                                ("down", normal(4 * WIDTH, WIDTH)), ("g1", np.ones(WIDTH, np.float32)), ("s1", np.zeros(WIDTH, np.float32)),
                                ("g2", np.ones(WIDTH, np.float32)), ("s2", np.zeros(WIDTH, np.float32))):
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

    def forward(self, tokens, past=None, dtype=np.float32):
        """tokens [batch, new]; past: for each layer keys and values [batch, heads, held, each]. Scores, and all keys and values then."""
        p = lambda name: self.get(name, dtype)
        batch, new = tokens.shape
        held = past[0][0].shape[2] if past else 0
        self.kept, states = [], []
        x = p("table")[tokens] + places(np.arange(held, held + new)).astype(dtype)
        split = lambda y: y.reshape(batch, -1, HEADS, EACH).transpose(0, 2, 1, 3)
        ahead = np.arange(held + new)[None, :] > np.arange(held, held + new)[:, None]
        for l in range(LAYERS):
            keep = []
            n = self.norm(x, p(f"g1{l}"), p(f"s1{l}"), keep)
            q, k, v = split(n @ p(f"q{l}")), split(n @ p(f"k{l}")), split(n @ p(f"v{l}"))
            if past:
                k, v = np.concatenate([past[l][0], k], 2), np.concatenate([past[l][1], v], 2)
            states.append((k, v))
            s = q @ k.transpose(0, 1, 3, 2) / np.sqrt(EACH).astype(dtype)
            s = np.where(ahead, dtype(-1e30), s)
            e = np.exp(s - s.max(-1, keepdims=True))
            a = e / e.sum(-1, keepdims=True)
            m = (a @ v).transpose(0, 2, 1, 3).reshape(batch, new, WIDTH)
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

    def backward(self, tokens, dscores):
        flat = lambda t: t.reshape(-1, t.shape[-1])
        keep, y = self.last
        self.dout = flat(y).T @ flat(dscores)
        dx = self.unnorm(dscores @ self.out.T, self.gain, keep[0], "gain", "shift")
        batch, new = tokens.shape
        joined = lambda t: t.transpose(0, 2, 1, 3).reshape(batch, new, WIDTH)
        for l in reversed(range(LAYERS)):
            keep, n, q, k, v, a, m, n2, h, r = self.kept[l]
            w = lambda name: getattr(self, f"{name}{l}")
            put = lambda name, value: setattr(self, f"d{name}{l}", value)
            put("down", flat(r).T @ flat(dx))
            dh = (dx @ w("down").T) * (h > 0)
            put("up", flat(n2).T @ flat(dh))
            put("ub", flat(dh).sum(0))
            dx = dx + self.unnorm(dh @ w("up").T, w("g2"), keep[1], f"g2{l}", f"s2{l}")
            put("o", flat(m).T @ flat(dx))
            dm = (dx @ w("o").T).reshape(batch, new, HEADS, EACH).transpose(0, 2, 1, 3)
            da = dm @ v.transpose(0, 1, 3, 2)
            dv = a.transpose(0, 1, 3, 2) @ dm
            ds = a * (da - (da * a).sum(-1, keepdims=True)) / np.float32(np.sqrt(EACH))
            dq, dk = ds @ k, ds.transpose(0, 1, 3, 2) @ q
            dn = 0
            for name, d in (("q", dq), ("k", dk), ("v", dv)):
                d = joined(d)
                put(name, flat(n).T @ flat(d))
                dn = dn + d @ w(name).T
            dx = dx + self.unnorm(dn, w("g1"), keep[0], f"g1{l}", f"s1{l}")
        self.dtable = np.zeros_like(self.table)
        np.add.at(self.dtable, tokens.reshape(-1), flat(dx))


def rows(pairs, seed, count):
    """Notes one behind another, each between begin and end, cut to lines of LENGTH + 1 tokens."""
    line = []
    for n in notes(seed, count):
        line += [pairs.begin] + pairs.encode(n) + [pairs.end]
    line = np.array(line[:len(line) // (LENGTH + 1) * (LENGTH + 1)])
    return line.reshape(-1, LENGTH + 1)


def losses(scores, targets):
    top = scores - scores.max(-1, keepdims=True)
    logs = top - np.log(np.exp(top).sum(-1, keepdims=True))
    return logs, -np.take_along_axis(logs, targets[..., None], -1)[..., 0]


def train(pairs, steps, batch=32):
    data, net, rng = rows(pairs, 1, 9000), Net(WORDS + 2), np.random.default_rng(2)
    adam = Adam([net])
    for step in range(steps):
        some = data[rng.integers(len(data), size=batch)]
        scores, _ = net.forward(some[:, :-1])
        logs, loss = losses(scores, some[:, 1:])
        d = np.exp(logs)
        np.put_along_axis(d, some[:, 1:, None], np.take_along_axis(d, some[:, 1:, None], -1) - 1, -1)
        net.backward(some[:, :-1], d / np.float32(loss.size))
        adam.step(3e-3 * min(1, (step + 1) / 100) * (1 - 0.95 * step / steps))
        if step % 100 == 0:
            print(f"step {step}: {loss.mean() / np.log(2):.3f} bits a token", flush=True)
    return net


def export(net, pairs):
    nodes, weights = [], {}

    def add(op, inputs, output, **attributes):
        nodes.append(wire.node(op, inputs, [output] if isinstance(output, str) else output, output if isinstance(output, str) else output[0],
                               **attributes))
        return output

    def weight(name, value):
        weights[name] = np.ascontiguousarray(value)
        return name

    dims = ["batch", HEADS, "held", EACH]
    inputs = [wire.value("tokens", "int64", ["batch", "new"])]
    outputs = [wire.value("scores", "float32", ["batch", "new", WORDS + 2])]
    held = add("Gather", [add("Shape", ["past.0.keys"], "held.shape"), weight("two", np.int64(2))], "held")
    new = add("Gather", [add("Shape", ["tokens"], "new.shape"), weight("one", np.int64(1))], "new")
    at = add("Range", [held, add("Add", [held, new], "all"), weight("step", np.int64(1))], "at")
    turns = add("MatMul", [add("Unsqueeze", [add("Cast", [at], "at.floats", to=1), weight("last", np.array([1]))], "at.column"),
                           weight("turns", (1 / 1000 ** (np.arange(WIDTH // 2) / (WIDTH // 2))).astype(np.float32)[None])], "turned")
    place = add("Concat", [add("Sin", [turns], "sines"), add("Cos", [turns], "cosines")], "places", axis=1)
    x = add("Add", [add("Gather", [weight("table", net.table), "tokens"], "looked_up"), place], "embedded")
    for l in range(LAYERS):
        w = lambda name, short: weight(f"{l}.{name}", getattr(net, f"{short}{l}"))
        n = add("LayerNormalization", [x, w("norm1.gain", "g1"), w("norm1.shift", "s1")], f"{l}.norm1", epsilon=1e-5)

        def part(short, name):
            flat = add("MatMul", [n, w(name, short)], f"{l}.{name}.flat")
            return add("Transpose", [add("Reshape", [flat, weight("heads", np.array([0, 0, HEADS, EACH]))], f"{l}.{name}.heads")], f"{l}.{name}.turned",
                       perm=[0, 2, 1, 3])

        past = [f"past.{l}.keys", f"past.{l}.values"]
        present = [f"present.{l}.keys", f"present.{l}.values"]
        inputs += [wire.value(p, "float32", dims) for p in past]
        outputs += [wire.value(p, "float32", ["batch", HEADS, "held and new", EACH]) for p in present]
        mixed = add("Attention", [part("q", "queries"), part("k", "keys"), part("v", "values"), "", *past], [f"{l}.mixed", *present], is_causal=1)[0]
        joined = add("Reshape", [add("Transpose", [mixed], f"{l}.mixed.turned", perm=[0, 2, 1, 3]), weight("joined", np.array([0, 0, WIDTH]))],
                     f"{l}.joined")
        x = add("Add", [x, add("MatMul", [joined, w("mix", "o")], f"{l}.mix.out")], f"{l}.attended")
        n = add("LayerNormalization", [x, w("norm2.gain", "g2"), w("norm2.shift", "s2")], f"{l}.norm2", epsilon=1e-5)
        up = add("Add", [add("MatMul", [n, w("up", "up")], f"{l}.up.out"), w("up.bias", "ub")], f"{l}.up.biased")
        down = add("MatMul", [add("Relu", [up], f"{l}.relu"), w("down", "down")], f"{l}.down.out")
        x = add("Add", [x, down], f"{l}.out")
    n = add("LayerNormalization", [x, weight("gain", net.gain), weight("shift", net.shift)], "normed", epsilon=1e-5)
    add("MatMul", [n, weight("out", net.out)], "scores")
    return wire.model("notes", nodes, inputs, outputs, weights, opset=23, metadata={"lathe.vocabulary": pairs.file()},
                      doc="Continues notes of a workshop. Made-up text; keys and values of each layer are states.")


def greedy(net, prompt, most, end):
    """The float64 loop: keys and values carried along."""
    tokens, made = np.array([prompt]), []
    scores, past = net.forward(tokens, None, np.float64)
    gap = np.inf
    while len(made) < most:
        row = np.sort(scores[0, -1])
        gap = min(gap, row[-1] - row[-2])
        made.append(int(scores[0, -1].argmax()))
        if made[-1] == end:
            return made[:-1], gap
        scores, past = net.forward(np.array([[made[-1]]]), past, np.float64)
    return made, gap


def main():
    here = os.path.dirname(os.path.abspath(__file__))
    out = sys.argv[1] if len(sys.argv) > 1 else os.path.join(here, "..", "notes")
    os.makedirs(out, exist_ok=True)
    pairs = Pairs(notes(1, 3000), WORDS)
    net = train(pairs, int(sys.argv[2]) if len(sys.argv) > 2 else 2500)
    held_out = rows(pairs, 99, 600)
    scores, _ = net.forward(held_out[:, :-1], None, np.float64)
    _, loss = losses(scores, held_out[:, 1:])
    size = np.mean([len(n.encode()) / (len(pairs.encode(n)) + 2) for n in notes(99, 600)])
    print(f"held-out notes (float64): {loss.mean() / np.log(2):.3f} bits a token, {loss.mean() / np.log(2) / size:.3f} a byte")
    with open(os.path.join(out, "notes.onnx"), "wb") as f:
        f.write(export(net, pairs))
    with open(os.path.join(out, "notes.vocabulary"), "w") as f:
        f.write(pairs.file())
    lines = []
    for beginning in ("Spindle 2", "Board 4", "Order 23", "Humidity", "", "Mila", "Ruth set the", "Spindle 1: knife 3 dull, changed"):
        prompt = [pairs.begin] + pairs.encode(beginning)
        made, gap = greedy(net, prompt, 60, pairs.end)
        text = b"".join(pairs.tokens[t] for t in made if t < WORDS).decode("utf-8", "replace")
        lines.append({"beginning": beginning, "prompt": prompt, "tokens": made, "text": text, "least_gap": gap})
        print(f"{beginning!r} -> {text!r} (nearest choice {gap:.4f} apart)")
    with open(os.path.join(out, "continued.json"), "w") as f:
        json.dump(lines, f, indent=1)
    # References: a beginning, and three tokens behind it.
    tokens = np.array([[pairs.begin] + pairs.encode("Board 512, oak, 24 mm:")])
    past = [(np.zeros((1, HEADS, 0, EACH)), np.zeros((1, HEADS, 0, EACH)))] * LAYERS
    for case, some in enumerate((tokens[:, :-3], tokens[:, -3:])):
        folder = os.path.join(out, f"test_data_set_{case}")
        os.makedirs(folder, exist_ok=True)
        scores, then = net.forward(some, past, np.float64)
        names = [f"{l}.{kind}" for l in range(LAYERS) for kind in ("keys", "values")]
        values = lambda states: [a for pair in states for a in pair]
        for kind, items in (("input", [("tokens", some)] + [("past." + n, v) for n, v in zip(names, values(past))]),
                            ("output", [("scores", scores)] + [("present." + n, v) for n, v in zip(names, values(then))])):
            for i, (name, array) in enumerate(items):
                with open(os.path.join(folder, f"{kind}_{i}.pb"), "wb") as f:
                    f.write(wire.tensor(np.ascontiguousarray(array, np.int64 if name == "tokens" else np.float32), name))
        past = then


if __name__ == "__main__":
    main()
