// From pixels to a model's input and from maps of cells to boxes, as `docs/pictures.md` has them. Pure functions, in page or worker.

const numbers = (text, count, otherwise) => {
  const list = (text ?? "").split(",").filter((s) => s.trim() !== "").map(Number);
  if (list.some((v) => !Number.isFinite(v))) throw new Error(`'${text}' is no list of numbers`);
  return Array.from({ length: count }, (_, i) => (list.length === 0 ? otherwise : list[list.length === 1 ? 0 : i]));
};

/**
 * ImageData to a Float32Array [1, 3, height, width] of (pixel - mean) * scale. mean, scale: texts of one number or three, as a model's
 * metadata have them; channels: "rgb" or "bgr". Transparency is passed over.
 */
export function pixelsToInput(image, { mean, scale, channels } = {}) {
  const m = numbers(mean, 3, 0), s = numbers(scale, 3, 1), area = image.width * image.height, out = new Float32Array(3 * area);
  for (let c = 0; c < 3; ++c) {
    const from = channels === "bgr" ? 2 - c : c, to = c * area;
    for (let i = 0; i < area; ++i) out[to + i] = (image.data[4 * i + from] - m[c]) * s[c];
  }
  return out;
}

const sigmoid = (v) => 1 / (1 + Math.exp(-v));

/**
 * A map of cells {shape: [1, 4 + classes, rows, columns], data} to boxes {x, y, width, height, score, label} in pixels of the input: the
 * form `cells` with `distances` as `logarithms` and scores before a sigmoid.
 */
export function boxesOfCells({ shape, data }, width, height, { leastScore = 0.25, mostOverlap = 0.5 } = {}) {
  const [, channels, rows, columns] = shape, cells = rows * columns, found = [];
  const cellX = width / columns, cellY = height / rows;
  for (let i = 0; i < cells; ++i) {
    let label = 0;
    for (let c = 5; c < channels; ++c) if (data[c * cells + i] > data[(4 + label) * cells + i]) label = c - 4;
    const score = sigmoid(data[(4 + label) * cells + i]);
    if (!(score >= leastScore)) continue;
    const [left, top, right, bottom] = [0, 1, 2, 3].map((k) => Math.exp(data[k * cells + i]));
    const row = Math.floor(i / columns), column = i % columns;
    found.push({ x: (column + 0.5 - left) * cellX, y: (row + 0.5 - top) * cellY, width: (left + right) * cellX, height: (top + bottom) * cellY, score, label });
  }
  return suppressed(found, mostOverlap);
}

/** Intersection over union. */
export function overlap(a, b) {
  const w = Math.min(a.x + a.width, b.x + b.width) - Math.max(a.x, b.x), h = Math.min(a.y + a.height, b.y + b.height) - Math.max(a.y, b.y);
  if (!(w > 0 && h > 0)) return 0;
  return (w * h) / (a.width * a.height + b.width * b.height - w * h);
}

/** By falling score, what overlaps no better box of its class by more than `most`. */
export function suppressed(boxes, most) {
  const kept = [];
  for (const box of [...boxes].sort((a, b) => b.score - a.score)) {
    if (!kept.some((k) => k.label === box.label && overlap(k, box) > most)) kept.push(box);
  }
  return kept;
}
