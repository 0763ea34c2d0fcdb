"""Trains two gated recurrent layers on the same made-up notes, character by character, with numpy alone, and writes their weights by name:
what examples/build_recurrent.cpp builds a model of. With them goes what a float64 loop makes of a beginning.

usage: make_recurrent_notes.py [FOLDER [STEPS]]
"""
import os
import sys

import numpy as np

from notes_text import notes
from recurrent import Gated, hold_back
from training import Adam

WIDTH, LAYERS, LENGTH = 128, 2, 80
ALPHABET = "\n" + "".join(sorted(set("".join(notes(1, 3000)))))


class Net:
    def __init__(self, seed=4):
        rng = np.random.default_rng(seed)
        normal = lambda *s: (rng.standard_normal(s) / np.sqrt(s[0])).astype(np.float32)
        self.table, self.out, self.shift = normal(len(ALPHABET), WIDTH) * 3, normal(WIDTH, len(ALPHABET)), np.zeros(len(ALPHABET), np.float32)
        self.params = ["table", "out", "shift"]
        self.layers = [Gated(normal, WIDTH, WIDTH) for _ in range(LAYERS)]

    def forward(self, ids, states, dtype=np.float32):
        """ids [steps, batch]; states [layers, batch, WIDTH]. Scores [steps, batch, characters] and the states then."""
        p = lambda name: getattr(self, name).astype(dtype)
        x, after = p("table")[ids], []
        for layer, h in zip(self.layers, states):
            x = layer.forward(x, h, dtype)
            after.append(x[-1])
        self.last = x
        return x @ p("out") + p("shift"), np.stack(after)

    def backward(self, ids, dscores):
        flat = lambda a: a.reshape(-1, a.shape[-1])
        self.dout, self.dshift = flat(self.last).T @ flat(dscores), flat(dscores).sum(0)
        dx = dscores @ self.out.T
        for layer in reversed(self.layers):
            dx = layer.backward(dx)
        self.dtable = np.zeros_like(self.table)
        np.add.at(self.dtable, ids.reshape(-1), flat(dx))


def main():
    here = os.path.dirname(os.path.abspath(__file__))
    out = sys.argv[1] if len(sys.argv) > 1 else os.path.join(here, "..", "notes")
    steps = int(sys.argv[2]) if len(sys.argv) > 2 else 1200
    os.makedirs(out, exist_ok=True)
    text = np.array([ALPHABET.index(c) for c in "\n".join(notes(1, 9000))])
    net, rng, batch = Net(), np.random.default_rng(5), 48
    owners = [net, *net.layers]
    adam = Adam(owners)
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
        hold_back(owners)
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
    names = {p: getattr(net, p) for p in net.params}
    for l, layer in enumerate(net.layers):
        names.update({f"layer{l}.{p.replace('within', 'in')}": getattr(layer, p) for p in layer.params})
    np.savez(os.path.join(out, "recurrent.npz"), **names)
    with open(os.path.join(out, "recurrent.txt"), "w") as f:
        f.write("".join(f"{line}\n" for line in ("alphabet " + ALPHABET.replace("\n", "\\n"), "beginning " + beginning.replace("\n", "\\n"),
                                                  "continued " + made.replace("\n", "\\n"))))


if __name__ == "__main__":
    main()
