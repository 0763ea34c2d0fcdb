"""Runs the sweeps of scripts/reach and prints one line a figure: reached, asked."""
import argparse
import json
import math
import os
import subprocess
import tempfile

parser = argparse.ArgumentParser()
parser.add_argument("--rounds", type=int, default=7)
parser.add_argument("--only", default="")
parser.add_argument("--list", action="store_true")
args = parser.parse_args()

TOOL = "build/release/bin/lathe"
BASELINES = "build/release/lib/libbaselines.so"
folder = tempfile.TemporaryDirectory()
memory = {}


def sweep(op, *options, threads=1):
    """Cases of one sweep: a list of (size, {implementation: result}, case)."""
    key = (op, options, threads)
    if key not in memory:
        path = os.path.join(folder.name, "sweep.json")
        command = [TOOL, "sweep", op, *options, "--threads", str(threads), "--rounds", str(args.rounds), "--json", path]
        done = subprocess.run(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True)
        if done.returncode != 0:
            raise SystemExit(f"{' '.join(command)}\n{done.stderr}")
        with open(path) as file:
            cases = json.load(file)["cases"]
        memory[key] = [(c["size"], {i["implementation"]: i for i in c["implementations"] if i["timed"]}, c) for c in cases]
    return memory[key]


def geometric(values):
    return math.exp(sum(math.log(v) for v in values) / len(values))


def best_isa():
    machine = json.loads(subprocess.run([TOOL, "machine", "--json", "-"], capture_output=True, text=True, check=True).stdout)
    return machine["instruction_sets"][-1]


ISA = best_isa()


def share(result):
    return result["share_of_limit"]


def seconds(result):
    return result["seconds"]["median"]


def line(what, value, asked, good):
    print(f"  {what:<64} {value:>10}   {asked:<12} {'' if good else 'below'}", flush=True)


def percent(what, value, asked):
    line(what, f"{100 * value:.1f} %", f"{100 * asked:.0f} %", value >= asked)


def times(what, value, asked):
    line(what, f"{value:.2f} x", f"{asked:.2f} x", value >= asked)


def shapes(name):
    return ["--shapes", f"bench/shapes/{name}.txt"]


def products():
    for threads in (1, 2):
        cases = sweep("MatMul", *shapes("products"), "--kernels", BASELINES, "--with", f"{ISA},openblas", threads=threads)
        ratios = {size: seconds(by["openblas"]) / seconds(by[ISA]) for size, by, _ in cases}
        on = f"{threads} thread{'s' if threads > 1 else ''}"
        times(f"products against OpenBLAS, geometric mean of {len(ratios)}, {on}", geometric(ratios.values()), 1.15)
        worst = min(ratios, key=ratios.get)
        times(f"  the worst: {worst}", ratios[worst], 0.95)
        large = sweep("MatMul", *shapes("large_products"), "--with", ISA, threads=threads)
        percent(f"large products, share of peak, geometric mean of {len(large)}, {on}", geometric([share(by[ISA]) for _, by, _ in large]), 0.9)
        for size, by, _ in sweep("MatMul", *shapes("one_row_products"), "--with", ISA, threads=threads):
            percent(f"one-row product {size}, share of read bandwidth, {on}", share(by[ISA]), 0.9)


def convolutions():
    for threads in (1, 2):
        on = f"{threads} thread{'s' if threads > 1 else ''}"
        cases = sweep("Conv", *shapes("convolutions"), "--kernels", BASELINES, "--with", f"{ISA},openblas", threads=threads)
        percent(f"convolutions, share of the limit, geometric mean of {len(cases)}, {on}", geometric([share(by[ISA]) for _, by, _ in cases]), 0.75)
        times(f"against windows written out + OpenBLAS, {on}",
              geometric([seconds(by["openblas"]) / seconds(by[ISA]) for _, by, _ in cases if "openblas" in by]), 2)
        depthwise = sweep("Conv", *shapes("depthwise"), "--with", ISA, threads=threads)
        percent(f"depthwise, share of roofline, geometric mean of {len(depthwise)}, {on}", geometric([share(by[ISA]) for _, by, _ in depthwise]), 0.7)
        turned = sweep("ConvTranspose", *shapes("transposed"), "--with", ISA, threads=threads)
        percent(f"transposed convolutions, share of peak, {on}", geometric([share(by[ISA]) for _, by, _ in turned]), 0.5)


def narrow():
    for threads in (1, 2):
        on = f"{threads} thread{'s' if threads > 1 else ''}"
        wide = sweep("MatMul", *shapes("large_products"), "--with", ISA, threads=threads)
        for op in ("QLinearMatMul", "MatMulInteger"):
            bytes_ = sweep(op, *shapes("large_products"), "--with", ISA, threads=threads)
            times(f"{op} against f32, large shapes, {on}",
                  geometric([seconds(w[ISA]) / seconds(b[ISA]) for (_, w, _), (_, b, _) in zip(wide, bytes_)]), 3)
        one = sweep("MatMul", *shapes("one_row_products"), "--with", ISA, threads=threads)
        for kind in ("f16", "bf16"):
            half = sweep("MatMul", *shapes("one_row_products"), "--weights", kind, "--with", ISA, threads=threads)
            times(f"one-row products, {kind} weights against f32, {on}",
                  geometric([seconds(w[ISA]) / seconds(h[ISA]) for (_, w, _), (_, h, _) in zip(one, half)][1:]), 1.8)


def memory_bound():
    ops = {"Add": [], "Mul+Add+Relu": [], "Exp": [], "Sigmoid": [], "Tanh": [], "Erf": [], "Softmax": [], "LayerNormalization": [], "ReduceSum": [],
           "ReduceMax": [], "Transpose": []}
    for threads in (1, 2):
        for op in ops:
            by_size = {size: share(by[ISA]) for size, by, _ in sweep(op, "--sizes", "2^16", "2^24", "--with", ISA, threads=threads)}
            percent(f"{op}, 2^24 elements, share of copy bandwidth, {threads} thread{'s' if threads > 1 else ''}", by_size["2^24"], 0.85)
            print(f"  {'  2^16 elements (L2)':<64} {100 * by_size['2^16']:>8.1f} %")
        pools = sweep("MaxPool", "--sizes", "4x64x224x224 3x3 s2 p1", "--with", ISA, threads=threads)
        percent(f"MaxPool 3x3, stride 2, 4x64x224x224, {threads} thread{'s' if threads > 1 else ''}", share(pools[0][1][ISA]), 0.85)


def attention():
    for threads in (1, 2):
        for size, by, _ in sweep("Attention", "--sizes", "1x8x1024x64", "1x12x128x64", "--with", f"{ISA},unfused", threads=threads):
            times(f"attention {size} against product, softmax, product, {threads} thread{'s' if threads > 1 else ''}",
                  seconds(by["unfused"]) / seconds(by[ISA]), 1.3)


def recurrent():
    for threads in (1, 2):
        for op in ("LSTM", "GRU"):
            for size, by, case in sweep(op, "--sizes", "64x1x256x256", "64x8x256x512", "32x16x512x512", "--with", ISA, threads=threads):
                percent(f"{op} {size} (steps, batch, inputs, hidden), {threads} thread{'s' if threads > 1 else ''}", share(by[ISA]), 0.7)


def few_results():
    """Parts along the summed axis (docs/decisions/0056) against none, in one process."""
    row, rows = 200000, ["--pin", "family=rows", "--with", ISA]
    for threads, asked in ((1, 0.95), (2, 1.3)):
        on = f"{threads} thread{'s' if threads > 1 else ''}"
        for op in ("Softmax", "LogSoftmax", "LayerNormalization", "ReduceSum", "ReduceMax"):
            [(_, by, _)] = sweep(op, "--sizes", str(row), "--row", str(row), *rows, threads=threads)
            times(f"{op}, one row of {row}, in parts against not, {on}", seconds(by["pinned"]) / seconds(by[ISA]), asked)
        for size, by, _ in sweep("MatMul", "--sizes", "1x32x60000", "8x24x30000", "--pin", "family=product", "--with", ISA, threads=threads):
            times(f"product {size}, K in parts against not, {on}", seconds(by["pinned"]) / seconds(by[ISA]), asked)


def crew():
    print(subprocess.run(["build/release/bin/crew", "--rounds", str(args.rounds)], capture_output=True, text=True, check=True).stdout)


PARTS = {"products": products, "convolutions": convolutions, "8 and 16 bits": narrow, "bandwidth": memory_bound, "attention": attention,
         "recurrent": recurrent, "few results": few_results, "crew": crew}
if args.list:
    print("\n".join(PARTS))
    raise SystemExit(0)
print(f"{ISA}, {args.rounds} interleaved rounds\n  {'':<64} {'reached':>10}   asked")
for name, part in PARTS.items():
    if args.only in name:
        print(f"\n{name}")
        part()
