"""Made-up notes of a workshop that mills boards, and a byte-pair vocabulary of them."""
import numpy as np

WOODS = ["oak", "beech", "ash", "maple", "cherry", "walnut", "pine", "larch"]
NAMES = ["Ines", "Tomas", "Ruth", "Aron", "Mila", "Jonas"]
PARTS = ["table top", "drawer front", "door frame", "shelf board", "bench seat", "stair tread"]
FAULTS = ["a knot", "a crack", "a resin pocket", "a burn mark", "torn grain", "a dent"]
SIDES = ["left edge", "right edge", "front end", "back end", "middle"]


def note(rng):
    pick = lambda words: words[rng.integers(len(words))]
    number = lambda low, high: int(rng.integers(low, high + 1))
    clock = f"{number(6, 17)}:{number(0, 5)}{number(0, 9)}"
    kind = number(0, 7)
    if kind == 0:
        return f"Spindle {number(1, 4)}: knife {number(1, 6)} dull, changed at {clock} by {pick(NAMES)}."
    if kind == 1:
        return f"Board {number(100, 999)}, {pick(WOODS)}, {number(18, 60)} mm: {pick(FAULTS)} at the {pick(SIDES)}, turned over."
    if kind == 2:
        return f"Board {number(100, 999)}, {pick(WOODS)}: {pick(FAULTS)} at the {pick(SIDES)}, cut off {number(20, 90)} mm."
    if kind == 3:
        return f"{pick(NAMES)} set the feed of spindle {number(1, 4)} to {number(4, 18)} m a minute at {clock}."
    if kind == 4:
        return f"Order {number(2000, 2999)}: {number(2, 40)} {pick(PARTS)}s in {pick(WOODS)}, done at {clock}."
    if kind == 5:
        return f"Order {number(2000, 2999)}: {number(1, 9)} {pick(PARTS)}s short, {pick(WOODS)} is late, {pick(NAMES)} has called."
    if kind == 6:
        return f"Humidity {number(38, 62)} %, {pick(WOODS)} stack turned by {pick(NAMES)} at {clock}."
    return f"Spindle {number(1, 4)} runs {pick(['warm', 'loud', 'well', 'rough'])} at {number(6, 18)}000 turns, {pick(NAMES)} looks after it."


def notes(seed, count):
    rng = np.random.default_rng(seed)
    return [note(rng) for _ in range(count)]


def pieces(text):
    """As docs/vocabulary.md cuts a text before merges: a space goes with what follows it; letters, digits and other signs apart."""
    kind = lambda b: 0 if b in b" \n\t\r" else 1 if 48 <= b <= 57 else 2 if 65 <= b <= 90 or 97 <= b <= 122 or b >= 128 else 3
    out, at = [], 0
    while at < len(text):
        i = at
        if kind(text[i]) == 0:
            while i < len(text) and kind(text[i]) == 0:
                i += 1
            if i == len(text) or text[i - 1] != 32:
                out.append(text[at:i])
                at = i
                continue
            if i - 1 > at:
                out.append(text[at:i - 1])
                at = i - 1
                continue
        k = kind(text[i])
        while i < len(text) and kind(text[i]) == k:
            i += 1
        out.append(text[at:i])
        at = i
    return out


class Pairs:
    """Byte pairs, joined where they are most often side by side (Gage 1994)."""

    def __init__(self, texts, size):
        counts = {}
        for t in texts:
            for p in pieces(t.encode()):
                counts[p] = counts.get(p, 0) + 1
        words = {p: [p[i:i + 1] for i in range(len(p))] for p in counts}
        self.tokens = [bytes([b]) for b in range(256)]
        self.merges = []
        while len(self.tokens) < size:
            pairs = {}
            for p, parts in words.items():
                for a, b in zip(parts, parts[1:]):
                    pairs[a, b] = pairs.get((a, b), 0) + counts[p]
            a, b = max(sorted(pairs), key=pairs.get)
            self.merges.append((a, b))
            self.tokens.append(a + b)
            for p in words:
                words[p] = self._joined(words[p], a, b)
        self.begin, self.end = len(self.tokens), len(self.tokens) + 1
        self.ids = {t: i for i, t in enumerate(self.tokens)}
        self.ranks = {m: i for i, m in enumerate(self.merges)}
        self.known = {}

    @staticmethod
    def _joined(parts, a, b):
        out, i = [], 0
        while i < len(parts):
            if i + 1 < len(parts) and parts[i] == a and parts[i + 1] == b:
                out.append(a + b)
                i += 2
            else:
                out.append(parts[i])
                i += 1
        return out

    def encode(self, text):
        out = []
        for p in pieces(text.encode()):
            if p not in self.known:
                parts = [p[i:i + 1] for i in range(len(p))]
                while True:
                    ranked = [(self.ranks[m], m) for m in zip(parts, parts[1:]) if m in self.ranks]
                    if not ranked:
                        break
                    parts = self._joined(parts, *min(ranked)[1])
                self.known[p] = [self.ids[t] for t in parts]
            out += self.known[p]
        return out

    def file(self):
        escaped = lambda t: "".join(chr(b) if 33 <= b < 127 and b not in b"\\[#" else f"\\x{b:02x}" for b in t)
        lines = ["lathe vocabulary 1", "kind = pairs", f"begin = {self.begin}", f"end = {self.end}", "[tokens]"]
        lines += [escaped(t) for t in self.tokens] + ["<begin>", "<end>", "[merges]"]
        return "\n".join(lines + [f"{escaped(a)} {escaped(b)}" for a, b in self.merges]) + "\n"
