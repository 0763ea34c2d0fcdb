"""Draws finished boards of the made-up workshop Alder Row, and writes the job cards that belong to them."""
import numpy as np

from board_scans import smooth

WOODS = {"oak": (196, 152, 98), "beech": (214, 170, 132), "maple": (232, 206, 168), "cherry": (170, 100, 66), "walnut": (104, 74, 54)}
THINGS = ["shelf", "door", "table top", "drawer front", "stair tread", "bench seat"]
NAMES = ["Ines", "Tomas", "Ruth", "Aron", "Mila", "Jonas"]
FAULTS = {"no fault": "oil", "a scratch": "sand", "a burn": "plane", "a dent": "fill"}
PLACES = [" on the left", " in the middle", " on the right"]
WORDS = (["order ", ", ", ":", " ", " of ", " for ", " knots", "."] + [str(d) for d in range(10)] + THINGS + list(WOODS) + NAMES + list(FAULTS)
         + PLACES + list(FAULTS.values()))
BEGIN, END, PICTURE, UNKNOWN = range(len(WORDS), len(WORDS) + 4)


def finished(rng, height=64, width=128):
    """uint8 (height, width, 3), and what is to be seen: wood, knots, fault, place (-1: none)."""
    wood, knots, fault = rng.integers(len(WOODS)), rng.integers(4), rng.integers(len(FAULTS))
    place = rng.integers(3) if fault else -1
    yy, xx = np.mgrid[0:height, 0:width].astype(np.float64)
    top, left = rng.uniform(3, 7), rng.uniform(3, 7)
    bottom, right = height - rng.uniform(3, 7), width - rng.uniform(3, 7)
    flow = yy + 5 * smooth(rng, height, width, 2, 2)
    saw = (flow * rng.uniform(0.06, 0.14) + 0.25 * smooth(rng, height, width, 5, 3)) % 1
    colour = np.array(list(WOODS.values())[wood], np.float64) * (1.04 - 0.16 * (0.8 * saw ** 2)[..., None])
    spots = []
    if fault:
        third = (right - left) / 3
        fx, fy = left + third * (place + rng.uniform(0.3, 0.7)), rng.uniform(top + 12, bottom - 12)
        spots.append((fy, fx, 11, 13))
    while len(spots) < knots + (fault > 0):  # apart from one another, and from the fault
        ry, rx = rng.uniform(3.5, 6), rng.uniform(4, 8)
        cy, cx = rng.uniform(top + ry + 1, bottom - ry - 1), rng.uniform(left + rx + 1, right - rx - 1)
        if all(abs(cy - a) > ry + c + 2 or abs(cx - b) > rx + d + 2 for a, b, c, d in spots):
            spots.append((cy, cx, ry, rx))
    for cy, cx, ry, rx in spots[1 if fault else 0:]:
        r = np.sqrt(((yy - cy) / ry) ** 2 + ((xx - cx) / rx) ** 2)
        cover = 0.75 / (1 + np.exp(np.clip((r - 1) * 8, -30, 30)))
        colour = colour * (1 - cover[..., None] * (0.55 + 0.25 * np.sin(6 * r))[..., None])
    if fault:
        cy, cx = fy, fx
        if fault == 1:
            angle = rng.uniform(0.3, np.pi - 0.3)
            along, across = (xx - cx) * np.cos(angle) + (yy - cy) * np.sin(angle), (yy - cy) * np.cos(angle) - (xx - cx) * np.sin(angle)
            cover = np.exp(-(across / rng.uniform(0.7, 1.1)) ** 2) * (np.abs(along) < rng.uniform(9, 14)) * rng.uniform(0.6, 0.9)
            colour = colour * (1 - cover[..., None]) + 245 * cover[..., None]
        elif fault == 2:  # black in the middle, brown at its edge
            r = np.sqrt(((yy - cy) / rng.uniform(9, 12)) ** 2 + ((xx - cx) / rng.uniform(10, 14)) ** 2)
            cover = np.exp(-(r ** 4))[..., None]
            colour = colour * (1 - cover) + np.array((24, 18, 16)) * cover
        else:  # a bowl: its upper edge in the shade, its lower one lit
            radius = rng.uniform(6, 8)
            r = np.sqrt((yy - cy) ** 2 + (xx - cx) ** 2) / radius
            edge = np.exp(-((r - 0.9) * 4) ** 2) * (yy - cy) / radius
            colour = colour * (1 + 0.75 * edge[..., None])
    shade = rng.uniform(0.85, 1.12) * (1 + rng.normal(0, 0.05) * (xx / width - 0.5))
    colour = colour * shade[..., None] * np.array([rng.uniform(0.97, 1.03), rng.uniform(0.97, 1.03), rng.uniform(0.96, 1.04)])
    board = ((yy >= top) & (yy <= bottom) & (xx >= left) & (xx <= right))[..., None]
    colour = np.where(board, colour, 60 + 6 * smooth(rng, height, width, 4, 8)[..., None]) + rng.normal(0, rng.uniform(1, 4), (height, width, 1))
    return np.clip(np.rint(colour), 0, 255).astype(np.uint8), (int(wood), int(knots), int(fault), int(place))


def card(rng, seen):
    """The words that are given, and those of the card, as texts."""
    wood, knots, fault, place = seen
    number, thing, name = f"{rng.integers(1000):03d}", THINGS[rng.integers(len(THINGS))], NAMES[rng.integers(len(NAMES))]
    kind, cure = list(FAULTS.items())[fault]
    given = f"order {number}, {thing}, {name}:"
    return given, f" {thing} {number} of {list(WOODS)[wood]} for {name}, {knots} knots, {kind}{PLACES[place] if fault else ''}: {cure}."


def encode(text):
    out, at = [], 0
    while at < len(text):
        token = max((w for w in WORDS if text.startswith(w, at)), key=len)
        out.append(WORDS.index(token))
        at += len(token)
    return out


def vocabulary():
    """In the form of docs/vocabulary.md."""
    lines = ["lathe vocabulary 1", "kind = words", f"begin = {BEGIN}", f"end = {END}", f"unknown = {UNKNOWN}", "[tokens]"]
    escaped = lambda w: ("\\x20" if w[0] == " " else w[0]) + (w[1:-1] + ("\\x20" if w[-1] == " " else w[-1]) if len(w) > 1 else "")
    return "\n".join(lines + [escaped(w) for w in WORDS] + ["<begin>", "<end>", "<picture>", "<unknown>"]) + "\n"
