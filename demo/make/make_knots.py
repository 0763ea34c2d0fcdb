#!/usr/bin/python3
"""Trains the knots model (a detector of three kinds of knots, for scans of any size) with numpy on drawn scans, and writes everything
under demo/knots: the ONNX file, held-out scans with their boxes, calibration scans, and reference outputs from a float64 forward pass.

Each cell of 8x8 pixels says the logarithms of the distances from its middle to the box's sides (left, top, right, bottom, in cells) and a
score for each kind before the sigmoid. Its results are committed, so nobody needs to run it. Usage: make_knots.py [OUT_DIR] [EPOCHS]"""
import json
import os
import sys
import numpy as np
import onnx_wire as wire
from board_scans import KINDS, scan
from grain_pictures import write_png
from training import Conv, Descent, export_conv, reference_conv

MEAN, STD, CELL = 150.0, 60.0, 8
#        name      inputs                   channels  kernel  stride  activation, skip
LAYERS = [("stem", 3, 12, 3, 2), ("down1", 12, 24, 3, 2), ("down2", 24, 48, 3, 2), ("body1", 48, 48, 3, 1), ("body2", 48, 48, 3, 1),
          ("body3", 48, 48, 3, 1)]


class Net:
    def __init__(self, rng):
        self.convs = [Conv(rng, cin, cout, k, s) for _, cin, cout, k, s in LAYERS]
        self.head = Conv(rng, 48, 4 + len(KINDS), 1, 1, norm=False)
        self.head.w *= 0.1
        self.head.beta[4:] = -3

    def forward(self, x, train):
        self.masks = []
        for (name, *_), conv in zip(LAYERS, self.convs):
            y = conv.forward(x, train)
            if name.startswith("body"): y = y + x
            x = np.maximum(y, 0)
            self.masks.append(y > 0)
        return self.head.forward(x, train)

    def backward(self, d):
        d = self.head.backward(d)
        for (name, *_), conv, mask in reversed(list(zip(LAYERS, self.convs, self.masks))):
            d = d * mask
            d = conv.backward(d) + (d if name.startswith("body") else 0)


def targets(boxes, height, width):
    """(cells_y, cells_x): class or -1; and the four logarithms. Cells whose middle lies in the middle half of a box answer for it."""
    ny, nx = height // CELL, width // CELL
    kind, sides = np.full((ny, nx), -1), np.zeros((ny, nx, 4), np.float32)
    cy, cx = (np.arange(ny) + 0.5) * CELL, (np.arange(nx) + 0.5) * CELL
    for k, left, top, w, h in sorted(boxes.tolist(), key=lambda b: -b[3] * b[4]):
        my, mx = top + h / 2, left + w / 2
        rows = np.union1d(np.flatnonzero(np.abs(cy - my) < h / 4), [min(ny - 1, int(my / CELL))])
        cols = np.union1d(np.flatnonzero(np.abs(cx - mx) < w / 4), [min(nx - 1, int(mx / CELL))])
        for i in rows:
            for j in cols:
                kind[i, j] = int(k)
                away = np.array([cx[j] - left, cy[i] - top, left + w - cx[j], top + h - cy[i]]) / CELL
                sides[i, j] = np.log(np.maximum(away, 0.05))
    return kind, sides


def train(epochs, count=900, batch=15):
    rng = np.random.default_rng(11)
    scans = [scan(rng) for _ in range(count)]
    x = np.stack([(s[0] - MEAN) / STD for s in scans]).astype(np.float32)
    height, width = x.shape[1:3]
    net = Net(rng)
    descent = Descent(net.convs + [net.head])
    steps, step = epochs * (count // batch), 0
    for epoch in range(epochs):
        order, losses = rng.permutation(count), []
        for at in range(0, count, batch):
            images, kinds, sides = [], [], []
            for i in order[at:at + batch]:
                image, boxes = x[i], scans[i][1].copy()
                if rng.random() < 0.5:
                    image, boxes[:, 1] = image[:, ::-1], width - boxes[:, 1] - boxes[:, 3]
                k, s = targets(boxes, height, width)
                images.append(image)
                kinds.append(k)
                sides.append(s)
            kinds, sides = np.stack(kinds), np.stack(sides)
            out = net.forward(np.ascontiguousarray(np.stack(images)), True)
            there = kinds >= 0
            positives = max(1, there.sum())
            p = 1 / (1 + np.exp(-out[..., 4:]))
            wanted = (kinds[..., None] == np.arange(len(KINDS))).astype(np.float32)
            d = np.zeros_like(out)
            d[..., 4:] = (p - wanted) / positives
            off = (out[..., :4] - sides) * there[..., None]
            d[..., :4] = np.clip(off * 4, -1, 1) * 0.5 / positives
            losses.append((-(wanted * np.log(p + 1e-7) + (1 - wanted) * np.log(1 - p + 1e-7)).sum() + np.abs(off).sum()) / positives)
            net.backward(d)
            descent.step(0.03 * 0.5 * (1 + np.cos(np.pi * step / steps)) * min(1, (step + 1) / 60))
            step += 1
        print(f"epoch {epoch + 1:2d}  loss {np.mean(losses):.4f}", flush=True)
    return net


def export(net):
    nodes, weights, x = [], {}, "scan"
    for (name, *_), layer in zip(LAYERS, net.convs):
        y = export_conv(wire, layer, name, x, nodes, weights)
        if name.startswith("body"):
            nodes.append(wire.node("Add", [y, x], [name + ".sum"], name + "/add"))
            y = name + ".sum"
        nodes.append(wire.node("Relu", [y], [name + ".out"], name + "/relu"))
        x = name + ".out"
    y = export_conv(wire, net.head, "head", x, nodes, weights)
    nodes.append(wire.node("Identity", [y], ["cells"], "cells"))
    detect = {"form": "cells", "outputs": ["cells"], "box": "distances", "box_values": "logarithms", "scores": "sigmoid"}
    return wire.model("knots", nodes, [wire.value("scan", "float32", ["batch", 3, "height", "width"])],
                      [wire.value("cells", "float32", ["batch", 4 + len(KINDS), "rows", "columns"])], weights,
                      metadata={"labels": ",".join(KINDS), "mean": f"{MEAN:g}", "scale": f"{1 / STD:.9g}", "channels": "rgb",
                                "fit": "pad", "multiple": str(CELL), "detect": json.dumps(detect)},
                      doc="Knots of three kinds on scans of boards, any height and width that 8 divides. Input: RGB, (pixel - mean) * scale.")


def reference(net, x):
    for (name, *_), layer in zip(LAYERS, net.convs):
        y = reference_conv(layer, x)
        x = np.maximum(y + x if name.startswith("body") else y, 0)
    return reference_conv(net.head, x)


def overlap(a, b):
    w = min(a[0] + a[2], b[0] + b[2]) - max(a[0], b[0])
    h = min(a[1] + a[3], b[1] + b[3]) - max(a[1], b[1])
    both = max(0, w) * max(0, h)
    return both / (a[2] * a[3] + b[2] * b[3] - both)


def found(cells):
    """Boxes (class, left, top, width, height, score) of one scan's cells, after suppression by class."""
    scores, sides = 1 / (1 + np.exp(-cells[4:])), np.exp(cells[:4]) * CELL
    candidates = []
    for k, i, j in zip(*np.nonzero(scores > 0.05)):
        y, x = (i + 0.5) * CELL, (j + 0.5) * CELL
        l, t, r, b = sides[:, i, j]
        candidates.append((k, x - l, y - t, l + r, t + b, scores[k, i, j]))
    kept = []
    for c in sorted(candidates, key=lambda c: -c[5]):
        if all(k[0] != c[0] or overlap(k[1:5], c[1:5]) <= 0.5 for k in kept):
            kept.append(c)
    return kept


def mean_average_precision(answers, truths, least):
    """Area under the falling precision over recall, mean of the classes."""
    out = []
    for k in range(len(KINDS)):
        boxes = sorted(((c[5], i, c[1:5]) for i, a in enumerate(answers) for c in a if c[0] == k), key=lambda b: -b[0])
        taken, right, expected = set(), [], sum((t[:, 0] == k).sum() for t in truths)
        for _, i, box in boxes:
            rivals = [(overlap(box, t[1:5]), n) for n, t in enumerate(truths[i]) if t[0] == k and (i, n) not in taken]
            best = max(rivals, default=(0, -1))
            right.append(best[0] >= least)
            if right[-1]: taken.add((i, best[1]))
        hits = np.cumsum(right)
        precision, recall = hits / np.arange(1, len(hits) + 1), hits / expected
        precision = np.maximum.accumulate(precision[::-1])[::-1]
        out.append(np.sum(np.diff(np.concatenate([[0], recall])) * precision))
    return float(np.mean(out))


def main():
    here = os.path.dirname(os.path.abspath(__file__))
    out = sys.argv[1] if len(sys.argv) > 1 else os.path.join(here, "..", "knots")
    net = train(int(sys.argv[2]) if len(sys.argv) > 2 else 30)
    os.makedirs(os.path.join(out, "test"), exist_ok=True)
    os.makedirs(os.path.join(out, "calibration"), exist_ok=True)
    rng, answers, truths = np.random.default_rng(12), [], []
    with open(os.path.join(out, "boxes.csv"), "w") as table:
        table.write("file,class,x,y,width,height\n")
        for i in range(60):
            size = (128, 192) if i % 3 else ((96, 160), (160, 224), (152, 120))[i // 3 % 3]
            image, boxes = scan(rng, *size)
            name = f"scan_{i:03d}.png"
            write_png(os.path.join(out, "test", name), image)
            if len(boxes) == 0: table.write(f"{name},,,,,\n")
            for b in boxes:
                table.write(f"{name},{KINDS[int(b[0])]}," + ",".join(f"{v:.2f}" for v in b[1:]) + "\n")
            cells = reference(net, ((image - MEAN) / STD).astype(np.float32).astype(np.float64).transpose(2, 0, 1)[None])
            answers.append(found(cells[0]))
            truths.append(boxes)
            if i < 2:
                folder = os.path.join(out, f"test_data_set_{i}")
                os.makedirs(folder, exist_ok=True)
                x = ((image.astype(np.float32) - np.float32(MEAN)) * np.float32(f"{1 / STD:.9g}")).transpose(2, 0, 1)[None]
                for kind, value, array in (("input", "scan", x), ("output", "cells", reference(net, x.astype(np.float64)))):
                    with open(os.path.join(folder, f"{kind}_0.pb"), "wb") as f:
                        f.write(wire.tensor(np.ascontiguousarray(array, np.float32), value))
    rng = np.random.default_rng(13)
    for i in range(12):
        write_png(os.path.join(out, "calibration", f"scan_{i:03d}.png"), scan(rng)[0])
    print(f"mean average precision at 0.5 (float64 reference): {mean_average_precision(answers, truths, 0.5):.4f} on {len(truths)} scans, "
          f"{sum(len(t) for t in truths)} knots; at 0.75: {mean_average_precision(answers, truths, 0.75):.4f}")
    with open(os.path.join(out, "knots.onnx"), "wb") as f:
        f.write(export(net))


if __name__ == "__main__":
    main()
