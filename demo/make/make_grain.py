#!/usr/bin/python3
"""Trains the grain model (a residual convolution net) with numpy on generated pictures, and writes everything under
demo/grain: the ONNX file, a labelled test set and a calibration set of PNGs, and reference outputs from a float64 forward pass.

Runs in a few minutes; its results are committed, so nobody needs to run it. Usage: make_grain.py [OUT_DIR] [EPOCHS]"""
import os
import sys
import numpy as np
import onnx_wire as wire
from grain_pictures import SPECIES, pictures, write_png
from training import Conv, Descent, export_conv, reference_conv

MEAN, STD = np.array([0.62, 0.48, 0.34]), np.array([0.20, 0.17, 0.15])
STAGES = [(16, 1), (32, 2), (64, 2), (128, 2)]


def normalise(images):
    return ((images / 255.0 - MEAN) / STD).astype(np.float32)


# ---- training ----

class Net:
    def __init__(self, rng):
        self.stem = Conv(rng, 3, 16, 3, 2)
        self.blocks, cin = [], 16
        for cout, s in STAGES:
            short = Conv(rng, cin, cout, 1, s) if (s != 1 or cin != cout) else None
            self.blocks.append((Conv(rng, cin, cout, 3, s), Conv(rng, cout, cout, 3, 1), short))
            cin = cout
        self.fw = (rng.standard_normal((cin, len(SPECIES))) * 0.05).astype(np.float32)
        self.fb = np.zeros(len(SPECIES), np.float32)
        self.params = ["fw", "fb"]

    def layers(self):
        return [self.stem] + [c for b in self.blocks for c in b if c is not None]

    def forward(self, x, train):
        x = self.m0 = np.maximum(self.stem.forward(x, train), 0)
        self.masks = []
        for a, b, short in self.blocks:
            h = np.maximum(a.forward(x, train), 0)
            y = np.maximum(b.forward(h, train) + (short.forward(x, train) if short else x), 0)
            self.masks.append((h > 0, y > 0))
            x = y
        self.last = x
        self.pooled = x.mean((1, 2))
        return self.pooled @ self.fw + self.fb

    def backward(self, dlogits):
        self.dfw, self.dfb = self.pooled.T @ dlogits, dlogits.sum(0)
        n, h, w, c = self.last.shape
        d = np.broadcast_to((dlogits @ self.fw.T)[:, None, None] / (h * w), self.last.shape).astype(np.float32)
        for (a, b, short), (mh, my) in zip(reversed(self.blocks), reversed(self.masks)):
            d = d * my
            side = short.backward(d) if short else d
            d = a.backward(b.backward(d) * mh) + side
        self.stem.backward(d * (self.m0 > 0))


def train(epochs):
    rng = np.random.default_rng(7)
    images, labels = pictures(seed=1, per_species=500)
    x = normalise(images)
    net = Net(rng)
    descent = Descent([net] + net.layers())
    batch, steps = 50, epochs * (len(x) // 50)
    step = 0
    for epoch in range(epochs):
        order, losses, right = rng.permutation(len(x)), [], 0
        for at in range(0, len(x) - batch + 1, batch):
            pick = order[at:at + batch]
            xb = x[pick]
            if rng.random() < 0.5: xb = xb[:, :, ::-1]
            if rng.random() < 0.5: xb = xb[:, ::-1]
            logits = net.forward(np.ascontiguousarray(xb), True)
            p = np.exp(logits - logits.max(1, keepdims=True))
            p /= p.sum(1, keepdims=True)
            losses.append(-np.log(p[np.arange(batch), labels[pick]] + 1e-9).mean())
            right += (p.argmax(1) == labels[pick]).sum()
            p[np.arange(batch), labels[pick]] -= 1
            net.backward(p / batch)
            rate = 0.08 * 0.5 * (1 + np.cos(np.pi * step / steps))
            descent.step(rate)
            step += 1
        print(f"epoch {epoch + 1:2d}  loss {np.mean(losses):.4f}  training accuracy {right / len(x):.3f}", flush=True)
    return net


# ---- export and reference outputs -----------------------------------------------------------------------------

def export(net, accuracy):
    nodes, weights = [], {}

    conv = lambda layer, name, source: export_conv(wire, layer, name, source, nodes, weights)

    def relu(src, name):
        nodes.append(wire.node("Relu", [src], [name], name))
        return name

    x = relu(conv(net.stem, "stem", "image"), "stem.out")
    for i, (a, b, short) in enumerate(net.blocks, 1):
        h = relu(conv(a, f"block{i}.a", x), f"block{i}.a.out")
        y = conv(b, f"block{i}.b", h)
        side = conv(short, f"block{i}.short", x) if short else x
        nodes.append(wire.node("Add", [y, side], [f"block{i}.sum"], f"block{i}/add"))
        x = relu(f"block{i}.sum", f"block{i}.out")
    weights["head.weight"], weights["head.bias"] = net.fw, net.fb
    nodes.append(wire.node("GlobalAveragePool", [x], ["pooled"], "head/pool"))
    nodes.append(wire.node("Flatten", ["pooled"], ["features"], "head/flatten", axis=1))
    nodes.append(wire.node("Gemm", ["features", "head.weight", "head.bias"], ["logits"], "head/product"))
    nodes.append(wire.node("Softmax", ["logits"], ["species"], "head/softmax", axis=-1))
    text = lambda v: ",".join(f"{e:g}" for e in v)
    return wire.model("grain", nodes, [wire.value("image", "float32", ["batch", 3, 64, 64])],
                      [wire.value("species", "float32", ["batch", len(SPECIES)])], weights,
                      metadata={"labels": ",".join(SPECIES), "mean": text(MEAN * 255), "scale": text(1 / (STD * 255)),
                                "channels": "rgb", "accuracy": f"{accuracy:.4f}"},
                      doc="Timber species from a 64x64 picture of grain. Input: RGB, (pixel - mean) * scale.")


def reference(net, image):
    """Float64 forward pass on (n, 3, 64, 64)."""
    conv = reference_conv
    x = np.maximum(conv(net.stem, image.astype(np.float64)), 0)
    for a, b, short in net.blocks:
        x = np.maximum(conv(b, np.maximum(conv(a, x), 0)) + (conv(short, x) if short else x), 0)
    logits = x.mean((2, 3)) @ net.fw.astype(np.float64) + net.fb
    e = np.exp(logits - logits.max(1, keepdims=True))
    return (e / e.sum(1, keepdims=True)).astype(np.float32)


def main():
    here = os.path.dirname(os.path.abspath(__file__))
    out = sys.argv[1] if len(sys.argv) > 1 else os.path.join(here, "..", "grain")
    net = train(int(sys.argv[2]) if len(sys.argv) > 2 else 10)
    images, labels = pictures(seed=2, per_species=40)
    batches = normalise(images).transpose(0, 3, 1, 2)
    probabilities = np.concatenate([reference(net, batches[i:i + 40]) for i in range(0, len(batches), 40)])
    accuracy = (probabilities.argmax(1) == labels).mean()
    print(f"held-out accuracy (float64 reference): {accuracy:.4f} on {len(labels)} pictures")
    os.makedirs(os.path.join(out, "test"), exist_ok=True)
    with open(os.path.join(out, "truth.csv"), "w") as table:
        table.write("file,label\n")
        for i, (image, label) in enumerate(zip(images, labels)):
            name = f"board_{i:03d}.png"
            write_png(os.path.join(out, "test", name), image)
            table.write(f"{name},{SPECIES[label]}\n")
    os.makedirs(os.path.join(out, "calibration"), exist_ok=True)
    for i, image in enumerate(pictures(seed=3, per_species=8)[0]):
        write_png(os.path.join(out, "calibration", f"board_{i:03d}.png"), image)
    with open(os.path.join(out, "grain.onnx"), "wb") as f:
        f.write(export(net, accuracy))
    for case, pick in enumerate([slice(0, 1), slice(1, 9)]):
        folder = os.path.join(out, f"test_data_set_{case}")
        os.makedirs(folder, exist_ok=True)
        for kind, name, array in (("input", "image", batches[pick]), ("output", "species", probabilities[pick])):
            with open(os.path.join(folder, f"{kind}_0.pb"), "wb") as f:
                f.write(wire.tensor(np.ascontiguousarray(array), name))
    np.savez(os.path.join(out, "reference_inputs.npz"), image=np.ascontiguousarray(batches[9:13]))
    np.savez(os.path.join(out, "reference_outputs.npz"), species=probabilities[9:13])


if __name__ == "__main__":
    main()
