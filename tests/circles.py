#!/usr/bin/env python3
"""Files of a room must not include one another in a circle, and files of src/lower stay short enough to read in one go.

A header and the source of the same name are one unit. Usage: circles.py SOURCE_DIR
"""
import pathlib
import re
import sys

MOST_LINES = 350  # of a file in src/lower


def units(source):
    """Unit ("lower/steps/rows") -> the units whose headers it includes."""
    found = {}
    for file in sorted(source.rglob("*.[ch]pp")):
        name = str(file.relative_to(source).with_suffix(""))
        includes = re.findall(r'^#include "([^"]+)\.hpp"', file.read_text(), re.M)
        found.setdefault(name, set()).update(i for i in includes if i != name)
    return {name: {i for i in includes if i in found} for name, includes in found.items()}


def circles(graph):
    """Tarjan's strongly connected components of more than one unit."""
    index, low, stack, on, out, counter = {}, {}, [], set(), [], [0]

    def visit(v):
        index[v] = low[v] = counter[0]
        counter[0] += 1
        stack.append(v)
        on.add(v)
        for w in graph[v]:
            if w not in index:
                visit(w)
                low[v] = min(low[v], low[w])
            elif w in on:
                low[v] = min(low[v], index[w])
        if low[v] == index[v]:
            part = []
            while True:
                w = stack.pop()
                on.discard(w)
                part.append(w)
                if w == v:
                    break
            if len(part) > 1:
                out.append(sorted(part))

    for v in graph:
        if v not in index:
            visit(v)
    return out


def main():
    assert circles({"a": {"b"}, "b": {"c"}, "c": {"a"}, "d": {"a"}}) == [["a", "b", "c"]]  # the check can fail
    source = pathlib.Path(sys.argv[1]) / "src"
    bad = 0
    graph = units(source)
    for part in circles(graph):
        print("a circle of includes:", ", ".join(part))
        bad += 1
    for file in sorted((source / "lower").rglob("*.[ch]pp")):
        lines = file.read_text().count("\n")
        if lines > MOST_LINES:
            print(f"{file} has {lines} lines, expected at most {MOST_LINES}: a family or a subject of its own wants a file of its own")
            bad += 1
    print(f"{len(graph)} units, {sum(map(len, graph.values()))} includes")
    sys.exit(1 if bad else 0)


main()
