"""Every way to draw tokens, in numpy and float64 with random numbers of its own, against what `lathe generate` makes of the demo's notes.

usage: samplers.py TOOL ROOT
"""
import json
import os
import subprocess
import sys

import numpy as np


def fields(data):
    """Fields of a protobuf message: (number, integer or bytes)."""
    at, out = 0, []

    def varint():
        nonlocal at
        value = shift = 0
        while True:
            byte = data[at]
            at += 1
            value |= (byte & 127) << shift
            shift += 7
            if byte < 128:
                return value

    while at < len(data):
        key = varint()
        if key & 7 == 0:
            out.append((key >> 3, varint()))
        else:
            size = varint() if key & 7 == 2 else 4 if key & 7 == 5 else 8
            out.append((key >> 3, data[at:at + size]))
            at += size
    return out


def initializers(path):
    graph = next(v for f, v in fields(open(path, "rb").read()) if f == 7)
    out = {}
    for number, message in fields(graph):
        if number != 5:
            continue
        tensor = fields(message)
        get = lambda f: next(v for n, v in tensor if n == f)
        dtype = {1: np.float32, 7: np.int64}[get(2)]
        out[get(8).decode()] = np.frombuffer(get(9), dtype).reshape([v for n, v in tensor if n == 1])
    return out


class Twister:
    """The 64-bit Mersenne Twister (Nishimura 2000); next() as docs/sequences.md draws."""

    def __init__(self, seed):
        self.state = [seed]
        for i in range(1, 312):
            before = self.state[-1]
            self.state.append((6364136223846793005 * (before ^ before >> 62) + i) % 2**64)
        self.at = 312

    def next(self):
        if self.at == 312:
            for i in range(312):
                x = (self.state[i] & 0xFFFFFFFF80000000) | (self.state[(i + 1) % 312] & 0x7FFFFFFF)
                self.state[i] = self.state[(i + 156) % 312] ^ x >> 1 ^ (0xB5026F5AA96619E9 if x & 1 else 0)
            self.at = 0
        x = self.state[self.at]
        self.at += 1
        x ^= x >> 29 & 0x5555555555555555
        x ^= x << 17 & 0x71D67FFFEDA60000
        x ^= x << 37 & 0xFFF7EEE000000000
        x ^= x >> 43
        return (x >> 11) * 2.0**-53


def pick(scores, before, temperature, top_k, top_p, repetition, window, numbers):
    """The rule of lathe/generate.hpp."""
    x = scores.copy()
    lately = before if window == 0 else before[-window:]
    for t in set(lately):
        x[t] = x[t] / repetition if x[t] > 0 else x[t] * repetition
    if temperature == 0:
        return int(x.argmax())
    order = np.lexsort((np.arange(len(x)), -x))
    if top_k:
        order = order[:top_k]
    share = np.exp((x[order] - x[order[0]]) / temperature)
    total = share[np.argsort(order)].sum()
    running = np.cumsum(share)
    if top_p < 1:
        stay = int(np.searchsorted(running, top_p * total)) + 1
        order, running = order[:stay], running[:stay]
        total = running[-1]
    above = np.nonzero(running > numbers.next() * total)[0]
    return int(order[above[0] if len(above) else -1])


def main():
    tool, root = sys.argv[1:3]
    sys.path.insert(0, os.path.join(root, "demo", "make"))
    from decoder import Decoder
    notes = os.path.join(root, "demo", "notes", "notes.onnx")
    weights = initializers(notes)
    net = Decoder(len(weights["table"]))
    for name, value in weights.items():
        short = {"norm1.gain": "g1", "norm1.shift": "s1", "norm2.gain": "g2", "norm2.shift": "s2", "queries": "q", "keys": "k", "values": "v",
                 "mix": "o", "up": "up", "up.bias": "ub", "down": "down"}.get(name[2:])
        if name in ("table", "out", "gain", "shift"):
            setattr(net, name, value)
        elif name[0].isdigit() and short:
            assert getattr(net, short + name[0]).shape == value.shape
            setattr(net, short + name[0], value)
    end = len(weights["table"]) - 1
    lines = json.load(open(os.path.join(root, "demo", "notes", "continued.json")))
    ways = [dict(), dict(temperature=0.8), dict(temperature=1.3, top_k=5), dict(temperature=1.1, top_p=0.9),
            dict(temperature=0, repetition=1.3, window=16), dict(temperature=1.5, top_k=40, top_p=0.8, repetition=1.2, window=0)]
    wrong = count = 0
    for line in lines[:3]:
        for way in ways:
            for seed in (1, 2) if way.get("temperature") else (1,):
                full = dict(temperature=0, top_k=0, top_p=1, repetition=1, window=64) | way
                numbers, so_far, made = Twister(seed), list(line["prompt"]), []
                scores, past = net.forward(net.embed(np.array([so_far]), np.float64), None, np.float64)
                while len(made) < 40:
                    token = pick(scores[0, -1], so_far, numbers=numbers, **full)
                    if token == end:
                        break
                    made.append(token)
                    so_far.append(token)
                    scores, past = net.forward(net.embed(np.array([[token]]), np.float64), past, np.float64)
                options = [f"--{k.replace('_', '-')}={v}" for k, v in way.items()]
                run = subprocess.run([tool, "generate", notes, "--ids", ",".join(map(str, line["prompt"])), "--most", "40", "--seed", str(seed),
                                      "--json", "-", *options], capture_output=True, text=True)
                got = json.loads(run.stdout)["tokens"] if run.returncode == 0 else run.stderr
                count += 1
                if got != made:
                    wrong += 1
                    print(f"{way} seed {seed}, {line['beginning']!r}: expected {made}, got {got}")
    print(f"{count - wrong} of {count} texts are those of the float64 loop")
    return wrong > 0


if __name__ == "__main__":
    sys.exit(main())
