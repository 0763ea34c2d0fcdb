"""What a call from Python takes beside one from C++: a program that adds one to 16 numbers, by turns.

usage: PYTHONPATH=build/release/python python3 bench/python_call.py [TOOL] [ROUNDS]
"""
import json
import pathlib
import statistics
import subprocess
import sys
import tempfile
import time

import numpy as np

import lathe

ROOT = pathlib.Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT / "demo" / "make"))
import onnx_wire as wire  # noqa: E402

tool = sys.argv[1] if len(sys.argv) > 1 else str(ROOT / "build/release/bin/lathe")
rounds = int(sys.argv[2]) if len(sys.argv) > 2 else 7
x = np.zeros(16, "float32")
model = wire.model("one", [wire.node("Add", ["x", "one"], ["y"])], [wire.value("x", "float32", (16,))],
                   [wire.value("y", "float32", (16,))], {"one": np.ones(16, "float32")})
with tempfile.TemporaryDirectory() as folder:
    path = pathlib.Path(folder) / "one.onnx"
    path.write_bytes(model)
    lane = lathe.compile(path, threads=1).lane()
    by_name = {"x": x}

    def python(inputs):
        times = []
        for _ in range(20000):
            began = time.perf_counter_ns()
            lane.run(inputs)
            times.append(time.perf_counter_ns() - began)
        return statistics.median(times) / 1000

    def native():
        made = subprocess.run([tool, "bench", str(path), "--threads", "1", "--seconds", "0.2", "--json", "-"], capture_output=True, text=True,
                              check=True)
        return json.loads(made.stdout)["latency_seconds"]["median"] * 1e6

    rows = [(native(), python(x), python(by_name)) for _ in range(rounds)]
for name, at in (("from C++", 0), ("from Python, an array", 1), ("from Python, by name", 2)):
    times = [row[at] for row in rows]
    print(f"{name:<24}{statistics.median(times):8.2f} us  ({min(times):.2f} to {max(times):.2f})")
over = statistics.median(row[2] - row[0] for row in rows)
print(f"{'over C++, by name':<24}{over:8.2f} us  (asked: less than 5)")
