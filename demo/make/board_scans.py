"""Draws scans of boards from the made-up workshop Alder Row: light wood with knots of three kinds, for the detector; and sanded
boards with and without scratches, for the model that removes them."""
import numpy as np

KINDS = ["sound", "dead", "hole"]


def smooth(rng, height, width, cells_y, cells_x):
    """Noise of unit scale that varies over so many cells."""
    grid = rng.standard_normal((cells_y + 1, cells_x + 1))
    y, x = np.linspace(0, cells_y - 1e-6, height), np.linspace(0, cells_x - 1e-6, width)
    yi, xi = y.astype(int), x.astype(int)
    fy, fx = (y - yi)[:, None], (x - xi)[None, :]
    fy, fx = fy * fy * (3 - 2 * fy), fx * fx * (3 - 2 * fx)
    rows = lambda r: grid[r][:, xi] * (1 - fx) + grid[r][:, xi + 1] * fx
    return rows(yi) * (1 - fy) + rows(yi + 1) * fy


def place_knots(rng, height, width, most):
    """Centre, half axes and kind of each knot; they may touch but hardly cover one another."""
    out = []
    for _ in range(rng.integers(0, most + 1)):
        for _ in range(20):
            ry = rng.uniform(4, 15)
            rx = ry * rng.uniform(1.0, 1.5)
            cy, cx = rng.uniform(0.6 * ry, height - 0.6 * ry), rng.uniform(0.6 * rx, width - 0.6 * rx)
            if all(abs(cy - k[0]) > ry + k[2] or abs(cx - k[1]) > rx + k[3] for k in out):
                out.append((cy, cx, ry, rx, int(rng.integers(len(KINDS)))))
                break
    return out


def scan(rng, height=128, width=192, most=6, streaks=3):
    """uint8 (height, width, 3), and boxes (n, 5): class, left, top, width, height in pixels, cut at the border."""
    yy, xx = np.mgrid[0:height, 0:width].astype(np.float64)
    knots = place_knots(rng, height, width, most)
    flow = yy + 6 * smooth(rng, height, width, 2, 2) + 0.04 * rng.normal() * xx
    for cy, cx, ry, rx, _ in knots:  # the grain runs round the knots
        near = np.exp(-(((yy - cy) / (2.0 * ry)) ** 2 + ((xx - cx) / (2.6 * rx)) ** 2))
        flow = flow + near * np.sign(yy - cy) * (ry * 0.9 - np.minimum(np.abs(yy - cy), ry) * 0.9)
    rings = rng.uniform(0.05, 0.12)
    saw = (flow * rings + 0.25 * smooth(rng, height, width, 6, 3)) % 1
    mix = np.clip(0.75 * saw ** rng.uniform(1.5, 3) + 0.08 * smooth(rng, height, width, height // 2, 6), 0, 1)[..., None]
    colour = np.array((222, 186, 134)) * (1 - mix) + np.array((178, 126, 76)) * mix
    for _ in range(rng.integers(0, streaks)):  # pitch streaks: dark, but no knots
        cy, cx = rng.uniform(0, height), rng.uniform(0, width)
        streak = np.exp(-((yy - cy) / rng.uniform(1, 2.5)) ** 2) * (np.abs(xx - cx) < rng.uniform(8, 40))
        colour = colour * (1 - 0.5 * streak[..., None])
    boxes = []
    for cy, cx, ry, rx, kind in knots:
        angle = np.arctan2((yy - cy) / ry, (xx - cx) / rx)
        wobble = 1 + 0.06 * np.sin(3 * angle + rng.uniform(0, 6)) + 0.04 * np.sin(5 * angle + rng.uniform(0, 6))
        r = np.sqrt(((yy - cy) / ry) ** 2 + ((xx - cx) / rx) ** 2) / wobble
        inside = 1 / (1 + np.exp(np.clip((r - 1) * ry * 2.5, -30, 30)))
        turns = 0.5 + 0.5 * np.sin(r * rng.uniform(9, 14) + rng.uniform(0, 6))
        if kind == 0:    # grown in: brown, ringed, its edge runs into the wood
            body = np.array((156, 96, 54)) * (0.85 + 0.3 * turns[..., None])
            cover = 0.9 * inside
        elif kind == 1:  # dead: a dark ring of bark round a greyer middle
            bark = np.exp(-((r - 0.86) * 7) ** 2)[..., None]
            body = np.array((150, 112, 84)) * (0.9 + 0.2 * turns[..., None]) * (1 - bark) + np.array((46, 30, 22)) * bark
            cover = inside
        else:            # fallen out: a hole, a lit lower edge
            edge = np.clip((yy - cy) / ry, 0, 1)[..., None] * np.exp(-((r - 0.95) * 8) ** 2)[..., None]
            body = np.array((30, 22, 18)) * (1 + 0.3 * turns[..., None]) * (1 - edge) + np.array((196, 160, 116)) * edge
            cover = inside
        colour = colour * (1 - cover[..., None]) + body * cover[..., None]
        left, top = max(0.0, cx - rx), max(0.0, cy - ry)
        boxes.append((kind, left, top, min(width, cx + rx) - left, min(height, cy + ry) - top))
    shade = rng.uniform(0.75, 1.2) * (1 + rng.normal(0, 0.08) * (xx / width - 0.5) + rng.normal(0, 0.08) * (yy / height - 0.5))
    tint = np.array([rng.uniform(0.94, 1.06), rng.uniform(0.95, 1.05), rng.uniform(0.9, 1.1)])
    colour = colour * shade[..., None] * tint + rng.normal(0, rng.uniform(1, 4), (height, width, 1))
    return np.clip(np.rint(colour), 0, 255).astype(np.uint8), np.array(boxes, np.float64).reshape(-1, 5)


def sanded(rng, height, width):
    """uint8 (height, width, 3) twice: with scratches, and without."""
    clean = scan(rng, height, width, most=2 if height * width < 12000 else 4, streaks=1)[0].astype(np.float64)
    yy, xx = np.mgrid[0:height, 0:width].astype(np.float64)
    out = clean.copy()
    for _ in range(max(1, int(round(height * width / 900 * rng.uniform(0.5, 1.5))))):
        cy, cx, angle = rng.uniform(0, height), rng.uniform(0, width), rng.uniform(0, np.pi)
        along, across = (xx - cx) * np.cos(angle) + (yy - cy) * np.sin(angle), (yy - cy) * np.cos(angle) - (xx - cx) * np.sin(angle)
        across = across + rng.normal(0, 0.004) * along ** 2
        reach = rng.uniform(8, 40)
        cover = np.exp(-(across / rng.uniform(0.5, 1.1)) ** 2) * (np.abs(along) < reach) * rng.uniform(0.5, 1.0)
        out = out * (1 - cover[..., None]) + rng.choice([245.0, 20.0]) * cover[..., None]
    return np.clip(np.rint(out), 0, 255).astype(np.uint8), clean.astype(np.uint8)
