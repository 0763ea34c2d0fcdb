#!/usr/bin/python3
"""Trains the sanding model (takes scratches out of pictures of boards, any height and width) with numpy on drawn pictures, and writes
everything under demo/sanding: the ONNX file, held-out pictures with and without scratches, and reference outputs from a float64 forward
pass. Its results are committed, so nobody needs to run it. Usage: make_sanding.py [OUT_DIR] [EPOCHS]"""
import os
import sys
import numpy as np
import onnx_wire as wire
from board_scans import sanded
from grain_pictures import write_png
from training import Adam, Conv, export_conv, reference_conv

WIDTH, DEPTH, PATCH = 24, 6, 48


class Net:
    """What is left of the picture after what the layers take for scratches: picture + layers(picture)."""

    def __init__(self, rng):
        self.convs = [Conv(rng, 3 if i == 0 else WIDTH, WIDTH, 3, 1) for i in range(DEPTH)]
        self.last = Conv(rng, WIDTH, 3, 3, 1, norm=False)
        self.last.w *= 0.1

    def forward(self, x, train):
        y, self.masks = x, []
        for conv in self.convs:
            y = np.maximum(conv.forward(y, train), 0)
            self.masks.append(y > 0)
        return x + self.last.forward(y, train)

    def backward(self, d):
        d = self.last.backward(d)
        for conv, mask in reversed(list(zip(self.convs, self.masks))):
            d = conv.backward(d * mask)


def train(epochs, count=640, batch=16):
    rng = np.random.default_rng(21)
    pairs = [sanded(rng, PATCH, PATCH) for _ in range(count)]
    x, y = (np.stack([p[i] for p in pairs]).astype(np.float32) / 255 for i in (0, 1))
    net = Net(rng)
    descent = Adam(net.convs + [net.last])
    steps, step = epochs * (count // batch), 0
    for epoch in range(epochs):
        order, errors = rng.permutation(count), []
        for at in range(0, count, batch):
            pick = order[at:at + batch]
            a, b = x[pick], y[pick]
            if rng.random() < 0.5: a, b = a[:, ::-1], b[:, ::-1]
            if rng.random() < 0.5: a, b = a[:, :, ::-1], b[:, :, ::-1]
            if rng.random() < 0.5: a, b = a.transpose(0, 2, 1, 3), b.transpose(0, 2, 1, 3)
            out = net.forward(np.ascontiguousarray(a), True)
            off = out - b
            errors.append((off ** 2).mean())
            net.backward((off / (batch * PATCH)).astype(np.float32))
            descent.step(0.003 * 0.5 * (1 + np.cos(np.pi * step / steps)) * min(1, (step + 1) / 40))
            step += 1
        print(f"epoch {epoch + 1:2d}  PSNR {-10 * np.log10(np.mean(errors)):.2f} dB", flush=True)
    # The running averages of the normalisations lag behind the weights; these are of the final ones.
    for _ in range(40):
        net.forward(x[rng.permutation(count)[:batch]], True)
    return net


def export(net):
    nodes, weights, x = [], {}, "picture"
    for i, layer in enumerate(net.convs, 1):
        y = export_conv(wire, layer, f"layer{i}", x, nodes, weights)
        nodes.append(wire.node("Relu", [y], [f"layer{i}.out"], f"layer{i}/relu"))
        x = f"layer{i}.out"
    y = export_conv(wire, net.last, "last", x, nodes, weights)
    nodes.append(wire.node("Add", ["picture", y], ["sum"], "add"))
    weights["black"], weights["white"] = np.float32(0), np.float32(1)
    nodes.append(wire.node("Clip", ["sum", "black", "white"], ["sanded"], "clip"))
    dims = ["batch", 3, "height", "width"]
    return wire.model("sanding", nodes, [wire.value("picture", "float32", dims)], [wire.value("sanded", "float32", dims)], weights,
                      metadata={"mean": "0", "scale": f"{1 / 255:.9g}", "channels": "rgb"},
                      doc="Takes scratches out of pictures of boards, any height and width. Input and output: RGB, 0 to 1.")


def reference(net, x):
    y = x
    for layer in net.convs:
        y = np.maximum(reference_conv(layer, y), 0)
    return np.clip(x + reference_conv(net.last, y), 0, 1)


def psnr(a, b):
    return -10 * np.log10(((a - b) ** 2).mean())


def main():
    here = os.path.dirname(os.path.abspath(__file__))
    out = sys.argv[1] if len(sys.argv) > 1 else os.path.join(here, "..", "sanding")
    net = train(int(sys.argv[2]) if len(sys.argv) > 2 else 24)
    for folder in ("scratched", "clean"):
        os.makedirs(os.path.join(out, folder), exist_ok=True)
    rng, gains = np.random.default_rng(22), []
    sizes = [(96, 128), (120, 90), (128, 192), (77, 143)]  # any will do
    with open(os.path.join(out, "pairs.csv"), "w") as table:
        table.write("file,target\n")
        for i in range(16):
            scratched, clean = sanded(rng, *sizes[i % 4])
            name = f"board_{i:02d}.png"
            write_png(os.path.join(out, "scratched", name), scratched)
            write_png(os.path.join(out, "clean", name), clean)
            table.write(f"scratched/{name},clean/{name}\n")
            x = (scratched.astype(np.float32) * np.float32(f"{1 / 255:.9g}")).transpose(2, 0, 1)[None]
            y = reference(net, x.astype(np.float64))
            target = clean.transpose(2, 0, 1)[None] / 255
            gains.append(psnr(y, target) - psnr(x, target))
            if i in (1, 3):
                folder = os.path.join(out, f"test_data_set_{i // 2}")
                os.makedirs(folder, exist_ok=True)
                for kind, value, array in (("input", "picture", x), ("output", "sanded", y)):
                    with open(os.path.join(folder, f"{kind}_0.pb"), "wb") as f:
                        f.write(wire.tensor(np.ascontiguousarray(array, np.float32), value))
    print(f"PSNR gained (float64 reference): {np.mean(gains):.2f} dB, from {min(gains):.2f} to {max(gains):.2f}, {len(gains)} pictures")
    with open(os.path.join(out, "sanding.onnx"), "wb") as f:
        f.write(export(net))


if __name__ == "__main__":
    main()
