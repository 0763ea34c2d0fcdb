"""Trains two gated recurrent layers on the same made-up notes, character by character, with numpy alone, and writes their weights by name:
what examples/build_recurrent.cpp builds a model of. With them goes what a float64 loop makes of a beginning.

usage: make_recurrent_notes.py [FOLDER [STEPS]]
"""
import os
import sys

import numpy as np

from notes_text import notes
from training import Adam

WIDTH, LAYERS, LENGTH = 128, 2, 80
ALPHABET = "\n" + "".join(sorted(set("".join(notes(1, 3000)))))


def sigmoid(x):
    return 1 / (1 + np.exp(-np.clip(x, -60, 60)))


class Net:
    """Of each layer `in` [inputs, 3 * WIDTH] and `again` [WIDTH, 3 * WIDTH]: gates reset, update, new, side by side in this order."""

    def __init__(self, seed=4):
        rng = np.random.default_rng(seed)
        normal = lambda *s: (rng.standard_normal(s) / np.sqrt(s[0])).astype(np.float32)
        self.table, self.out, self.shift = normal(len(ALPHABET), WIDTH) * 3, normal(WIDTH, len(ALPHABET)), np.zeros(len(ALPHABET), np.float32)
        self.params = ["table", "out", "shift"]
        for l in range(LAYERS):
            for name, value in (("in", normal(WIDTH, 3 * WIDTH)), ("again", normal(WIDTH, 3 * WIDTH)),
                                ("in_bias", np.zeros(3 * WIDTH, np.float32)), ("again_bias", np.zeros(3 * WIDTH, np.float32))):
                setattr(self, f"{name}{l}", value)
                self.params.append(f"{name}{l}")

    def forward(self, ids, states, dtype=np.float32):
        """ids [steps, batch]; states [layers, batch, WIDTH]. Scores [steps, batch, characters] and the states then."""
        p = lambda name: getattr(self, name).astype(dtype)
        self.kept, after = [], []
        x = p("table")[ids]
        for l in range(LAYERS):
            h, steps = states[l], []
            xi, again, bias = x @ p(f"in{l}") + p(f"in_bias{l}"), p(f"again{l}"), p(f"again_bias{l}")
            out = np.empty(x.shape[:2] + (WIDTH,), dtype)
            for t in range(len(x)):
                hi = h @ again + bias
                r, z = sigmoid(xi[t, :, :WIDTH] + hi[:, :WIDTH]), sigmoid(xi[t, :, WIDTH:2 * WIDTH] + hi[:, WIDTH:2 * WIDTH])
                n = np.tanh(xi[t, :, 2 * WIDTH:] + r * hi[:, 2 * WIDTH:])
                steps.append((h, hi, r, z, n))
                h = (1 - z) * n + z * h
                out[t] = h
            self.kept.append((x, steps))
            after.append(h)
            x = out
        self.last = x
        return x @ p("out") + p("shift"), np.stack(after)

    def backward(self, ids, dscores):
        flat = lambda a: a.reshape(-1, a.shape[-1])
        self.dout, self.dshift = flat(self.last).T @ flat(dscores), flat(dscores).sum(0)
        dx = dscores @ self.out.T
        for l in reversed(range(LAYERS)):
            x, steps = self.kept[l]
            again, dh = getattr(self, f"again{l}"), np.zeros(dx.shape[1:], np.float32)
            dxi = np.empty(x.shape[:2] + (3 * WIDTH,), np.float32)
            dagain, dagain_bias = np.zeros_like(again), np.zeros(3 * WIDTH, np.float32)
            for t in reversed(range(len(x))):
                h, hi, r, z, n = steps[t]
                dh = dh + dx[t]
                dn = dh * (1 - z) * (1 - n * n)
                dz = dh * (h - n) * z * (1 - z)
                dr = dn * hi[:, 2 * WIDTH:] * r * (1 - r)
                dhi = np.concatenate([dr, dz, dn * r], 1)
                dxi[t] = np.concatenate([dr, dz, dn], 1)
                dagain += h.T @ dhi
                dagain_bias += dhi.sum(0)
                dh = dh * z + dhi @ again.T
            setattr(self, f"din{l}", flat(x).T @ flat(dxi))
            setattr(self, f"din_bias{l}", flat(dxi).sum(0))
            setattr(self, f"dagain{l}", dagain)
            setattr(self, f"dagain_bias{l}", dagain_bias)
            dx = dxi @ getattr(self, f"in{l}").T
        self.dtable = np.zeros_like(self.table)
        np.add.at(self.dtable, ids.reshape(-1), flat(dx))


def main():
    here = os.path.dirname(os.path.abspath(__file__))
    out = sys.argv[1] if len(sys.argv) > 1 else os.path.join(here, "..", "notes")
    steps = int(sys.argv[2]) if len(sys.argv) > 2 else 1200
    os.makedirs(out, exist_ok=True)
    text = np.array([ALPHABET.index(c) for c in "\n".join(notes(1, 9000))])
    net, rng, batch = Net(), np.random.default_rng(5), 48
    adam = Adam([net])
    for step in range(steps):
        at = rng.integers(len(text) - LENGTH - 1, size=batch)
        some = np.stack([text[a:a + LENGTH + 1] for a in at], 1)
        scores, _ = net.forward(some[:-1], np.zeros((LAYERS, batch, WIDTH), np.float32))
        top = scores - scores.max(-1, keepdims=True)
        logs = top - np.log(np.exp(top).sum(-1, keepdims=True))
        d = np.exp(logs)
        picked = np.take_along_axis(logs, some[1:, :, None], -1)
        np.put_along_axis(d, some[1:, :, None], np.take_along_axis(d, some[1:, :, None], -1) - 1, -1)
        net.backward(some[:-1], (d / np.float32(picked.size)).astype(np.float32))
        for name in net.params:  # long texts push hard now and then
            grad = getattr(net, "d" + name)
            setattr(net, "d" + name, grad * np.float32(min(1, 0.5 / (np.sqrt((grad * grad).sum()) + 1e-9))))
        adam.step(3e-3 * (1 - 0.95 * step / steps))
        if step % 100 == 0:
            print(f"step {step}: {-picked.mean() / np.log(2):.3f} bits a character", flush=True)
    beginning = "\nSpindle 2"
    ids = np.array([[ALPHABET.index(c)] for c in beginning])
    scores, states = net.forward(ids, np.zeros((LAYERS, 1, WIDTH)), np.float64)
    made = ""
    while len(made) < 80:
        made += ALPHABET[int(scores[-1, 0].argmax())]
        scores, states = net.forward(np.array([[ALPHABET.index(made[-1])]]), states, np.float64)
    print(repr(beginning), "->", repr(made))
    names = {p if p in ("table", "out", "shift") else f"layer{p[-1]}.{p[:-1]}": np.asarray(getattr(net, p), np.float32) for p in net.params}
    np.savez(os.path.join(out, "recurrent.npz"), **names)
    with open(os.path.join(out, "recurrent.txt"), "w") as f:
        f.write("".join(f"{line}\n" for line in ("alphabet " + ALPHABET.replace("\n", "\\n"), "beginning " + beginning.replace("\n", "\\n"),
                                                  "continued " + made.replace("\n", "\\n"))))


if __name__ == "__main__":
    main()
