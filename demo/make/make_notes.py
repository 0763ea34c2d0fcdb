"""Trains a small decoder of attention on made-up workshop notes with numpy alone, exports it with states and vocabulary, and writes what a
float64 loop makes of some beginnings.

usage: make_notes.py [FOLDER [STEPS]]
"""
import json
import os
import sys

import numpy as np

import onnx_wire as wire
from decoder import Decoder, Writer, export_decoder, losses
from notes_text import Pairs, notes
from training import Adam

LENGTH, WORDS = 72, 382  # and begin and end


def rows(pairs, seed, count):
    """Notes one behind another, each between begin and end, cut to lines of LENGTH + 1 tokens."""
    line = []
    for n in notes(seed, count):
        line += [pairs.begin] + pairs.encode(n) + [pairs.end]
    line = np.array(line[:len(line) // (LENGTH + 1) * (LENGTH + 1)])
    return line.reshape(-1, LENGTH + 1)


def train(pairs, steps, batch=32):
    data, net, rng = rows(pairs, 1, 9000), Decoder(WORDS + 2), np.random.default_rng(2)
    adam = Adam([net])
    for step in range(steps):
        some = data[rng.integers(len(data), size=batch)]
        scores, _ = net.forward(net.embed(some[:, :-1]))
        logs, loss = losses(scores, some[:, 1:])
        d = np.exp(logs)
        np.put_along_axis(d, some[:, 1:, None], np.take_along_axis(d, some[:, 1:, None], -1) - 1, -1)
        net.unembed(some[:, :-1], net.backward(d / np.float32(loss.size)))
        adam.step(3e-3 * min(1, (step + 1) / 100) * (1 - 0.95 * step / steps))
        if step % 100 == 0:
            print(f"step {step}: {loss.mean() / np.log(2):.3f} bits a token", flush=True)
    return net


def export(net, pairs):
    out = Writer()
    out.inputs.append(wire.value("tokens", "int64", ["batch", "new"]))
    export_decoder(net, out, lambda: out.add("Gather", [out.weight("table", net.table), "tokens"], "looked_up"),
                   lambda: out.add("Gather", [out.add("Shape", ["tokens"], "new.shape"), out.weight("one", np.int64(1))], "new"))
    return out.model("notes", opset=23, metadata={"lathe.vocabulary": pairs.file()},
                     doc="Continues notes of a workshop. Made-up text; keys and values of each layer are states.")


def greedy(net, prompt, most, end):
    """The float64 loop: keys and values carried along."""
    tokens, made = np.array([prompt]), []
    scores, past = net.forward(net.embed(tokens, np.float64), None, np.float64)
    gap = np.inf
    while len(made) < most:
        row = np.sort(scores[0, -1])
        gap = min(gap, row[-1] - row[-2])
        made.append(int(scores[0, -1].argmax()))
        if made[-1] == end:
            return made[:-1], gap
        scores, past = net.forward(net.embed(np.array([[made[-1]]]), np.float64), past, np.float64)
    return made, gap


def main():
    here = os.path.dirname(os.path.abspath(__file__))
    out = sys.argv[1] if len(sys.argv) > 1 else os.path.join(here, "..", "notes")
    os.makedirs(out, exist_ok=True)
    pairs = Pairs(notes(1, 3000), WORDS)
    net = train(pairs, int(sys.argv[2]) if len(sys.argv) > 2 else 2500)
    held_out = rows(pairs, 99, 600)
    scores, _ = net.forward(net.embed(held_out[:, :-1], np.float64), None, np.float64)
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
    past = [(np.zeros((1, net.heads, 0, net.each)), np.zeros((1, net.heads, 0, net.each)))] * net.layers
    for case, some in enumerate((tokens[:, :-3], tokens[:, -3:])):
        folder = os.path.join(out, f"test_data_set_{case}")
        os.makedirs(folder, exist_ok=True)
        scores, then = net.forward(net.embed(some, np.float64), past, np.float64)
        names = [f"{l}.{kind}" for l in range(net.layers) for kind in ("keys", "values")]
        values = lambda states: [a for pair in states for a in pair]
        for kind, items in (("input", [("tokens", some)] + [("past." + n, v) for n, v in zip(names, values(past))]),
                            ("output", [("scores", scores)] + [("present." + n, v) for n, v in zip(names, values(then))])):
            for i, (name, array) in enumerate(items):
                with open(os.path.join(folder, f"{kind}_{i}.pb"), "wb") as f:
                    f.write(wire.tensor(np.ascontiguousarray(array, np.int64 if name == "tokens" else np.float32), name))
        past = then


if __name__ == "__main__":
    main()
