"""Draws 64x64 pictures of wood grain for six timber species of the made-up workshop Alder Row.

A picture is a warped ring pattern along a tilted grain direction plus pores, ray flecks and light. Colour, tilt,
exposure and noise vary so much that the species overlap: no single feature tells them apart."""
import struct
import zlib
import numpy as np

SPECIES = ["ash", "beech", "cherry", "oak", "pine", "walnut"]
SIZE = 64

#           light colour      dark colour       rings  sharp  pores  flecks  warp
LOOKS = {
    "ash":    ((214, 190, 150), (170, 138, 98), 6.0, 2.5, 0.9, 0.0, 1.0),
    "beech":  ((208, 168, 130), (184, 140, 104), 5.0, 0.7, 0.1, 1.0, 0.6),
    "cherry": ((186, 122, 82), (152, 88, 56), 4.5, 1.0, 0.1, 0.15, 1.2),
    "oak":    ((196, 160, 112), (146, 110, 70), 7.0, 1.6, 1.0, 0.7, 0.8),
    "pine":   ((226, 190, 130), (176, 116, 62), 4.5, 3.5, 0.0, 0.0, 0.7),
    "walnut": ((134, 98, 70), (84, 58, 42), 5.5, 1.2, 0.7, 0.0, 1.6),
}


def smooth_noise(rng, cells_y, cells_x):
    grid = rng.standard_normal((cells_y + 1, cells_x + 1))
    y, x = np.linspace(0, cells_y - 1e-6, SIZE), np.linspace(0, cells_x - 1e-6, SIZE)
    yi, xi = y.astype(int), x.astype(int)
    fy, fx = (y - yi)[:, None], (x - xi)[None, :]
    fy, fx = fy * fy * (3 - 2 * fy), fx * fx * (3 - 2 * fx)
    rows = lambda r: grid[r][:, xi] * (1 - fx) + grid[r][:, xi + 1] * fx
    return rows(yi) * (1 - fy) + rows(yi + 1) * fy


def streaks(rng, count, length, along, across, width):
    """Short strokes along the grain (pores) or across it (ray flecks), as a coverage map in [0, 1]."""
    out = np.zeros((SIZE, SIZE))
    for _ in range(count):
        a0, c0 = rng.uniform(along.min(), along.max()), rng.uniform(across.min(), across.max())
        reach = length * rng.uniform(0.5, 1.5)
        out = np.maximum(out, np.exp(-((across - c0) / width) ** 2) * (np.abs(along - a0) < reach))
    return out


def picture(rng, species):
    """uint8 array (64, 64, 3), RGB."""
    light, dark, rings, sharp, pores, flecks, warp = LOOKS[species]
    jitter = lambda s: rng.uniform(1 - s, 1 + s)
    yy, xx = np.mgrid[0:SIZE, 0:SIZE] / SIZE - 0.5
    tilt = rng.normal(0, 0.35)
    along, across = yy * np.cos(tilt) + xx * np.sin(tilt), xx * np.cos(tilt) - yy * np.sin(tilt)
    bend = warp * jitter(0.5) * (0.10 * smooth_noise(rng, 2, 2) + 0.02 * smooth_noise(rng, 4, 10))
    curve = rng.normal(0, 0.8) * along ** 2
    phase = (across + bend + curve) * rings * jitter(0.3) + rng.uniform()
    saw = phase - np.floor(phase)
    ring = saw ** (sharp * jitter(0.3))
    mix = np.clip(0.85 * ring + 0.10 * smooth_noise(rng, 3, 24), 0, 1)[..., None]
    colour = np.array(light) * (1 - mix) + np.array(dark) * mix
    pore_map = streaks(rng, int(46 * pores * jitter(0.4)), 0.06, along, across, 0.008)
    fleck_map = streaks(rng, int(34 * flecks * jitter(0.5)), 0.03, along, across, 0.012)
    colour = colour * (1 - 0.45 * pore_map[..., None]) + fleck_map[..., None] * rng.uniform(-30, 34)
    shade = jitter(0.22) * (1 + rng.normal(0, 0.12) * xx + rng.normal(0, 0.12) * yy)
    tint = np.array([jitter(0.09), jitter(0.06), jitter(0.11)])
    colour = colour * shade[..., None] * tint + rng.normal(0, rng.uniform(3, 13), colour.shape)
    return np.clip(np.rint(colour), 0, 255).astype(np.uint8)


def pictures(seed, per_species):
    """Images (n, 64, 64, 3) uint8 and labels (n,), species interleaved."""
    rng = np.random.default_rng(seed)
    labels = np.tile(np.arange(len(SPECIES)), per_species)
    return np.stack([picture(rng, SPECIES[k]) for k in labels]), labels


def write_png(path, rgb):
    height, width, _ = rgb.shape
    raw = b"".join(b"\x00" + rgb[y].tobytes() for y in range(height))
    part = lambda kind, body: struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))
    with open(path, "wb") as f:
        f.write(b"\x89PNG\r\n\x1a\n" + part(b"IHDR", struct.pack(">IIBBBBB", width, height, 8, 2, 0, 0, 0)) +
                part(b"IDAT", zlib.compress(raw, 9)) + part(b"IEND", b""))
