"""Trains, with numpy alone, what writes a job card from a picture of a finished board and a few words; exports it as four parts: picture
encoder, merger of its cells, table of words, decoder with keys and values as states. Writes what a float64 loop makes of held-out boards.

usage: make_jobcard.py [FOLDER [STEPS]]
"""
import csv
import os
import sys

import numpy as np

import onnx_wire as wire
from decoder import Decoder, Writer, export_decoder, losses
from grain_pictures import write_png
from job_cards import BEGIN, END, PICTURE, UNKNOWN, WORDS, card, encode, finished, vocabulary
from training import Adam, Conv, export_conv, reference_conv

MEAN, STD = 128.0, 64.0
WIDTH, CELL, MERGED = 64, 48, 8  # of the decoder; channels of a cell; cells of 2 x 2 that a board has
LAYERS = [("first", 3, 16, 2), ("second", 16, 24, 2), ("third", 24, 32, 2), ("fourth", 32, CELL, 2)]


class Dense:
    def __init__(self, rng, cin, cout):
        self.w = (rng.standard_normal((cin, cout)) * np.sqrt(2.0 / cin)).astype(np.float32)
        self.b = np.zeros(cout, np.float32)
        self.params = ["w", "b"]

    def forward(self, x):
        self.x = x
        return x @ self.w + self.b

    def backward(self, dy):
        self.dw, self.db = self.x.reshape(-1, self.x.shape[-1]).T @ dy.reshape(-1, dy.shape[-1]), dy.reshape(-1, dy.shape[-1]).sum(0)
        return dy @ self.w.T


class Net:
    def __init__(self, seed=5):
        rng = np.random.default_rng(seed)
        self.convs = [Conv(rng, cin, cout, 3, stride) for _, cin, cout, stride in LAYERS]
        self.up, self.down = Dense(rng, 4 * CELL, 128), Dense(rng, 128, WIDTH)
        self.decoder = Decoder(len(WORDS) + 4, width=WIDTH, heads=4, layers=3, seed=seed)
        self.parts = self.convs + [self.up, self.down, self.decoder]

    def look(self, pictures, train):
        x = pictures
        self.masks = []
        for conv in self.convs:
            y = conv.forward(x, train)
            self.masks.append(y > 0)
            x = np.maximum(y, 0)
        n, h, w, c = x.shape
        self.cells = x.shape
        y = self.up.forward(x.reshape(n, h // 2, 2, w // 2, 2, c).transpose(0, 1, 3, 2, 4, 5).reshape(n, h * w // 4, 4 * c))
        self.active = y > 0
        return self.down.forward(np.maximum(y, 0))

    def unlook(self, d):
        n, h, w, c = self.cells
        d = self.up.backward(self.down.backward(d) * self.active)
        d = d.reshape(n, h // 2, w // 2, 2, 2, c).transpose(0, 1, 3, 2, 4, 5).reshape(n, h, w, c)
        for conv, mask in zip(reversed(self.convs), reversed(self.masks)):
            d = conv.backward(d * mask)


def tokens_of(given, written):
    return [BEGIN] + [PICTURE] * MERGED + encode(given) + encode(written) + [END]


def prepared(picture):
    return ((picture.astype(np.float32) - np.float32(MEAN)) * np.float32(f"{1 / STD:.9g}"))


def examples(seed, count):
    rng, pictures, texts = np.random.default_rng(seed), [], []
    for _ in range(count):
        picture, seen = finished(rng)
        pictures.append(picture)
        texts.append((*card(rng, seen), seen))
    return pictures, texts


def train(steps, batch=32, count=9000):
    pictures, texts = examples(1, count)
    net, rng = Net(), np.random.default_rng(2)
    adam = Adam(net.parts)
    longest = max(len(tokens_of(given, written)) for given, written, _ in texts)
    lines, counted = np.full((count, longest + 1), END), np.zeros((count, longest), np.float32)
    for i, (given, written, _) in enumerate(texts):
        t = tokens_of(given, written)
        lines[i, :len(t)] = t
        first = 1 + MERGED + len(encode(given))
        counted[i, first - 1:len(t) - 1] = 1  # what is given counts for nothing
    for step in range(steps):
        some = rng.integers(count, size=batch)
        seen = np.stack([pictures[i] for i in some])
        if rng.integers(2):
            seen = seen[:, ::-1]  # upside down, a board is the same
        tokens, weight = lines[some], counted[some] / counted[some].sum()
        rows = net.look(prepared(seen), True)
        x = net.decoder.embed(tokens[:, :-1])
        x[:, 1:1 + MERGED] = rows
        scores, _ = net.decoder.forward(x)
        logs, loss = losses(scores, tokens[:, 1:])
        d = np.exp(logs)
        np.put_along_axis(d, tokens[:, 1:, None], np.take_along_axis(d, tokens[:, 1:, None], -1) - 1, -1)
        dx = net.decoder.backward(d * weight[..., None])
        net.unlook(dx[:, 1:1 + MERGED])
        dx[:, 1:1 + MERGED] = 0
        net.decoder.unembed(tokens[:, :-1], dx)
        adam.step(2e-3 * min(1, (step + 1) / 100) * (1 - 0.97 * step / steps))
        if step % 200 == 0:
            print(f"step {step}: {(loss * weight).sum() / np.log(2):.4f} bits a token", flush=True)
    return net


def reference_cells(net, picture):
    """Float64, apart from the training code."""
    x = prepared(picture).astype(np.float64).transpose(2, 0, 1)[None]
    for conv in net.convs:
        x = np.maximum(reference_conv(conv, x), 0)
    return x


def reference_merger(net, x):
    _, c, h, w = x.shape
    rows = np.stack([np.concatenate([x[0, :, 2 * i + a, 2 * j + b] for a in (0, 1) for b in (0, 1)])
                     for i in range(h // 2) for j in range(w // 2)])
    p = lambda v: v.astype(np.float64)
    return (np.maximum(rows @ p(net.up.w) + p(net.up.b), 0) @ p(net.down.w) + p(net.down.b))[None]


def greedy(net, rows, given, most=40):
    tokens = np.array([[BEGIN] + [PICTURE] * rows.shape[1] + encode(given)])
    x = net.decoder.embed(tokens, np.float64)
    x[:, 1:1 + rows.shape[1]] = rows
    scores, past = net.decoder.forward(x, None, np.float64)
    made = []
    while len(made) < most:
        made.append(int(scores[0, -1].argmax()))
        if made[-1] == END:
            return made[:-1]
        scores, past = net.decoder.forward(net.decoder.embed(np.array([[made[-1]]]), np.float64), past, np.float64)
    return made


def export_encoder(net):
    nodes, weights, x = [], {}, "board"
    for (name, *_), conv in zip(LAYERS, net.convs):
        y = export_conv(wire, conv, name, x, nodes, weights)
        x = "cells" if conv is net.convs[-1] else name + ".out"
        nodes.append(wire.node("Relu", [y], [x], name + "/relu"))
    return wire.model("encoder", nodes, [wire.value("board", "float32", ["batch", 3, "height", "width"])],
                      [wire.value("cells", "float32", ["batch", CELL, "rows", "columns"])], weights,
                      metadata={"mean": f"{MEAN:g}", "scale": f"{1 / STD:.9g}", "channels": "rgb", "fit": "pad", "multiple": "32"},
                      doc="What a picture of a finished board shows, in cells of 16 pixels. Input: RGB, (pixel - mean) * scale; sides that 32 divides.")


def export_merger(net):
    out = Writer()
    add, weight = out.add, out.weight
    out.inputs.append(wire.value("cells", "float32", ["batch", CELL, "rows", "columns"]))
    out.outputs.append(wire.value("rows", "float32", ["batch", "merged", WIDTH]))
    # Blocks of 2 x 2 cells side by side: their channels one cell behind another.
    deep = add("SpaceToDepth", ["cells"], "deep", blocksize=2)
    last = add("Transpose", [deep], "deep.last", perm=[0, 2, 3, 1])
    flat = add("Reshape", [last, weight("flat", np.array([0, -1, 4 * CELL]))], "blocks")
    up = add("Add", [add("MatMul", [flat, weight("up", net.up.w)], "up.out"), weight("up.bias", net.up.b)], "up.biased")
    down = add("MatMul", [add("Relu", [up], "relu"), weight("down", net.down.w)], "down.out")
    add("Add", [down, weight("down.bias", net.down.b)], "rows")
    return out.model("merger", doc="Makes rows, as wide as embeddings of words are, of blocks of 2 x 2 cells.")


def export_words(net):
    out = Writer()
    out.inputs.append(wire.value("tokens", "int64", ["batch", "new"]))
    out.outputs.append(wire.value("embeddings", "float32", ["batch", "new", WIDTH]))
    out.add("Gather", [out.weight("table", net.decoder.table), "tokens"], "embeddings")
    return out.model("words", metadata={"lathe.vocabulary": vocabulary()}, doc="Embeddings of words.")


def export_text(net):
    out = Writer()
    out.inputs.append(wire.value("embeddings", "float32", ["batch", "new", WIDTH]))
    export_decoder(net.decoder, out, lambda: "embeddings")
    return out.model("decoder", opset=23, doc="Scores of the next word; keys and values of each layer are states.")


def main():
    here = os.path.dirname(os.path.abspath(__file__))
    out = sys.argv[1] if len(sys.argv) > 1 else os.path.join(here, "..", "jobcard")
    os.makedirs(os.path.join(out, "boards"), exist_ok=True)
    net = train(int(sys.argv[2]) if len(sys.argv) > 2 else 6000)
    for name, export in (("encoder", export_encoder), ("merger", export_merger), ("words", export_words), ("decoder", export_text)):
        with open(os.path.join(out, name + ".onnx"), "wb") as f:
            f.write(export(net))
    pictures, texts = examples(77, 400)
    right, parts = 0, np.zeros(4, int)
    with open(os.path.join(out, "cards.csv"), "w", newline="") as f:
        table = csv.writer(f, lineterminator="\n")
        table.writerow(["picture", "prompt", "expected", "float64"])
        for i, (picture, (given, written, seen)) in enumerate(zip(pictures, texts)):
            cells = reference_cells(net, picture)
            rows = reference_merger(net, cells)
            made = "".join(WORDS[t] for t in greedy(net, rows, given) if t < len(WORDS))
            right += made == written
            if i < 40:
                name = f"boards/board_{i:02d}.png"
                write_png(os.path.join(out, name), picture)
                table.writerow([name, given, written, made])
            if i < 1:
                for part, arrays in (("encoder", (("board", prepared(picture).transpose(2, 0, 1)[None]), ("cells", cells))),
                                     ("merger", (("cells", cells), ("rows", rows)))):
                    folder = os.path.join(out, "references", part, "test_data_set_0")
                    os.makedirs(folder, exist_ok=True)
                    for kind, (value, array) in zip(("input", "output"), arrays):
                        with open(os.path.join(folder, f"{kind}_0.pb"), "wb") as g:
                            g.write(wire.tensor(np.ascontiguousarray(array, np.float32), value))
    print(f"held-out cards written exactly (float64 reference): {right} of {len(pictures)}")


if __name__ == "__main__":
    main()
