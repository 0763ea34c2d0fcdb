"""Trains a gated recurrent net with numpy alone on made-up vibration of a milling spindle, to tell chatter window by window; exports it with
its state, and writes fifteen seconds of held-out vibration with what a float64 loop makes of it.

usage: make_chatter.py [FOLDER [STEPS]]
"""
import os
import sys

import numpy as np

import onnx_wire as wire
from recurrent import Gated, hold_back, sigmoid
from training import Adam

RATE, WINDOW, TEETH = 6400, 64, 4  # samples a second; of a window (10 ms); of the cutter
FILTERS, TAPS, HOP, WIDTH = 24, 16, 4, 32


def vibration(rng, windows):
    """Samples [windows, WINDOW], float32, and whether each window has chatter. Knots make short bursts that are none."""
    t = np.arange(windows * WINDOW) / RATE
    turns = rng.uniform(150, 250) * (1 + 0.002 * np.cumsum(rng.normal(size=windows)).repeat(WINDOW) / np.sqrt(windows))
    angle = 2 * np.pi * np.cumsum(turns) / RATE
    load = np.interp(t, np.linspace(0, t[-1], 12), rng.uniform(0.5, 1.2, 12))
    out = 0.25 * np.sin(angle + rng.uniform(0, 6)) + load * (np.sin(TEETH * angle) + 0.4 * np.sin(2 * TEETH * angle + 1))
    out += rng.uniform(0.1, 0.3) * rng.normal(size=len(t))
    for _ in range(rng.poisson(windows / 60)):
        at, long = rng.integers(len(t)), int(rng.uniform(0.01, 0.04) * RATE)
        out[at:at + long] += rng.uniform(0.8, 2) * rng.normal(size=len(out[at:at + long]))
    grown = np.zeros(len(t))
    at = rng.exponential(0.6)
    while at < t[-1]:
        long, tone = rng.uniform(0.15, 0.6), rng.uniform(1100, 2300)
        inside = (t >= at) & (t < at + long)
        rise = np.minimum(np.exp((t - at) / 0.05) * 0.05, 1) * np.clip((at + long - t) / 0.02, 0, 1)
        level = rng.uniform(0.7, 1.4)
        grown = np.where(inside, level * rise, grown)
        out += np.where(inside, level * rise, 0) * np.sin(2 * np.pi * tone * t + 0.5 * np.sin(angle))
        at += long + rng.exponential(0.9)
    label = grown.reshape(windows, WINDOW).mean(1) > 0.3
    return (0.35 * out).astype(np.float32).reshape(windows, WINDOW), label


class Net:
    def __init__(self, seed=6):
        rng = np.random.default_rng(seed)
        normal = lambda *s: (rng.standard_normal(s) / np.sqrt(s[0])).astype(np.float32)
        self.taps, self.tap_bias = 2 * normal(TAPS, FILTERS), np.zeros(FILTERS, np.float32)
        self.out, self.shift = normal(WIDTH, 1), np.zeros(1, np.float32)
        self.params = ["taps", "tap_bias", "out", "shift"]
        self.layer = Gated(normal, FILTERS, WIDTH)

    def forward(self, x, h, dtype=np.float32):
        """x [windows, batch, WINDOW]; h [batch, WIDTH]. Chances of chatter [windows, batch, 1], and the state then."""
        p = lambda name: getattr(self, name).astype(dtype)
        self.cut = np.lib.stride_tricks.sliding_window_view(x.astype(dtype), TAPS, axis=2)[:, :, ::HOP]
        y = self.cut @ p("taps") + p("tap_bias")
        self.mask = y > 0
        states = self.layer.forward(np.maximum(y, 0).mean(2), h, dtype)
        self.last = states
        return sigmoid(states @ p("out") + p("shift")), states[-1]

    def backward(self, d):
        """d: gradient before the last sigmoid."""
        flat = lambda a: a.reshape(-1, a.shape[-1])
        self.dout, self.dshift = flat(self.last).T @ flat(d), flat(d).sum(0)
        dx = self.layer.backward(d @ self.out.T)[:, :, None] * self.mask / self.mask.shape[2]
        self.dtaps, self.dtap_bias = flat(self.cut).T @ flat(dx), flat(dx).sum(0)


def train(steps, batch=24, windows=100):
    net, rng = Net(), np.random.default_rng(2)
    owners = [net, net.layer]
    adam = Adam(owners)
    pool = [vibration(rng, windows) for _ in range(600)]
    for step in range(steps):
        some = [pool[i] for i in rng.integers(len(pool), size=batch)]
        x, truth = np.stack([s for s, _ in some], 1), np.stack([l for _, l in some], 1)[..., None].astype(np.float32)
        chances, _ = net.forward(x, np.zeros((batch, WIDTH), np.float32))
        net.backward(((chances - truth) / np.float32(truth.size)).astype(np.float32))
        hold_back(owners)
        adam.step(4e-3 * (1 - 0.95 * step / steps))
        if step % 200 == 0:
            print(f"step {step}: {((chances > 0.5) == (truth > 0.5)).mean():.4f} of windows right", flush=True)
    return net


def export(net):
    order = lambda w: np.concatenate([w[..., WIDTH:2 * WIDTH], w[..., :WIDTH], w[..., 2 * WIDTH:]], -1)  # the standard: update, reset, new
    layer = net.layer
    weights = {"pieces": np.array([-1, 1, WINDOW]), "taps": np.ascontiguousarray(net.taps.T[:, None]),
               "tap_bias": net.tap_bias, "within": order(layer.within).T[None].copy(), "again": order(layer.again).T[None].copy(),
               "biases": np.concatenate([order(layer.within_bias), order(layer.again_bias)])[None], "out": net.out, "shift": net.shift,
               "one": np.array([1]), "first_two": np.array([0]), "second": np.array([2]), "filters": np.array([FILTERS])}
    nodes = []

    def add(op, inputs, output, **attributes):
        nodes.append(wire.node(op, inputs, [output] if isinstance(output, str) else output, "", **attributes))
        return output

    sizes = add("Slice", [add("Shape", ["vibration"], "sizes"), "first_two", "second"], "windows_and_batch")
    heard = add("Relu", [add("Conv", [add("Reshape", ["vibration", "pieces"], "cut"), "taps", "tap_bias"], "filtered", kernel_shape=[TAPS],
                             strides=[HOP])], "heard")
    mean = add("Reshape", [add("GlobalAveragePool", [heard], "mean"), add("Concat", [sizes, "filters"], "mean.shape", axis=0)], "loudness")
    add("GRU", [mean, "within", "again", "biases", "", "state_in"], ["all", "state_out"], hidden_size=WIDTH, linear_before_reset=1)
    states = add("Squeeze", ["all", "one"], "states")
    add("Sigmoid", [add("Add", [add("MatMul", [states, "out"], "scored"), "shift"], "shifted")], "chatter")
    return wire.model("chatter", nodes,
                      [wire.value("vibration", "float32", ["windows", "batch", WINDOW]), wire.value("state_in", "float32", [1, "batch", WIDTH])],
                      [wire.value("chatter", "float32", ["windows", "batch", 1]), wire.value("state_out", "float32", [1, "batch", WIDTH])],
                      weights, doc=f"Chance of chatter in windows of {WINDOW} samples at {RATE} a second; state_out is the state_in of what follows.")


def main():
    here = os.path.dirname(os.path.abspath(__file__))
    out = sys.argv[1] if len(sys.argv) > 1 else os.path.join(here, "..", "chatter")
    os.makedirs(out, exist_ok=True)
    net = train(int(sys.argv[2]) if len(sys.argv) > 2 else 2500)
    with open(os.path.join(out, "chatter.onnx"), "wb") as f:
        f.write(export(net))
    rng = np.random.default_rng(77)
    held_out = [vibration(rng, 200) for _ in range(200)]
    x, truth = np.stack([s for s, _ in held_out], 1), np.stack([l for _, l in held_out], 1)
    chances, _ = net.forward(x, np.zeros((len(held_out), WIDTH)), np.float64)
    said = chances[..., 0] > 0.5
    print(f"held-out windows (float64): {(said == truth).mean():.4f} right, of chatter {said[truth].mean():.4f}, of none {1 - said[~truth].mean():.4f}")
    samples, label = vibration(np.random.default_rng(78), 1500)
    chances, state = net.forward(samples[:, None], np.zeros((1, WIDTH)), np.float64)
    np.save(os.path.join(out, "vibration.npy"), samples[:, None])  # fifteen seconds
    np.save(os.path.join(out, "chances.npy"), chances.astype(np.float32))
    np.save(os.path.join(out, "truth.npy"), label.astype(np.int64))
    print(f"of the {len(label)} windows shipped {((chances[:, 0, 0] > 0.5) == label).mean():.4f}, chatter in {label.mean():.2f}")
    x = np.ascontiguousarray(samples[:20, None])
    first, then = net.forward(x, np.zeros((1, WIDTH)), np.float64)
    folder = os.path.join(out, "test_data_set_0")
    os.makedirs(folder, exist_ok=True)
    for kind, items in (("input", (("vibration", x), ("state_in", np.zeros((1, 1, WIDTH))))),
                        ("output", (("chatter", first), ("state_out", then[None])))):
        for i, (name, array) in enumerate(items):
            with open(os.path.join(folder, f"{kind}_{i}.pb"), "wb") as f:
                f.write(wire.tensor(np.ascontiguousarray(array, np.float32), name))


if __name__ == "__main__":
    main()
