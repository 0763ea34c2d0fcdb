#!/usr/bin/env python3
"""The package for browsers in headless Chromium: outputs against the native library's, every kind of build, what it falls back to, bad input,
the example page as a person uses it, and how fast it is.
Usage: web_page.py TOOL ROOT SITE [--shots DIR] [--model FILE ...: also timed]"""
import argparse
import base64
import json
import pathlib
import re
import shutil
import subprocess
import sys

import numpy as np

parser = argparse.ArgumentParser()
parser.add_argument("tool")
parser.add_argument("root", type=pathlib.Path)
parser.add_argument("site", type=pathlib.Path)
parser.add_argument("--shots", type=pathlib.Path)
parser.add_argument("--model", type=pathlib.Path, action="append", default=[], help="an ONNX file that is timed too")
args = parser.parse_args()
sys.path.insert(0, str(args.root / "tests"))
from browser import Browser  # noqa: E402

failures = []


def check(condition, what):
    if not condition:
        failures.append(what)
        print("FAILED:", what)


def native(*words):
    done = subprocess.run([args.tool, *map(str, words)], capture_output=True, text=True)
    if done.returncode != 0:
        raise RuntimeError(f"{' '.join(map(str, words))}: {done.stderr}")
    return done.stdout


# What pages of these tests have at hand.
TOOLS = """
const { openLathe, bestKind } = await import("/lathe/lathe.mjs");
const bytes = async (path) => { const r = await fetch(path); if (!r.ok) throw new Error(path); return r.arrayBuffer(); };
const text64 = (array) => { const b = new Uint8Array(array.buffer, array.byteOffset, array.byteLength); let s = ""; for (let i = 0; i < b.length; i += 8192) s += String.fromCharCode(...b.subarray(i, i + 8192)); return btoa(s); };
const said = async (f) => { try { await f(); return ""; } catch (e) { return `${e.kind}: ${e.message}`; } };
"""


def floats(text):
    return np.frombuffer(base64.b64decode(text), np.float32)


def outputs_match(browser, address, kinds):
    """Every kind of build gives what numpy's references say, and what the native library gives."""
    x = next(iter(np.load(args.root / "demo/grain/reference_inputs.npz").values()))[:2].astype(np.float32)
    expected = next(iter(np.load(args.root / "demo/grain/reference_outputs.npz").values()))[:2]
    x.tofile(work / "grain.bin")
    for kind in kinds:
        browser.open(address)
        got = browser.later(TOOLS + """
          const lathe = await openLathe({ kind: arguments_[0] }), program = lathe.load(await bytes("/models/grain.lathe"));
          const lane = program.lane(), out = lane.run({ image: { data: new Float32Array(await bytes("work/grain.bin")), shape: [2, 3, 64, 64] } });
          const again = lane.run([new Float32Array(await bytes("work/grain.bin")).subarray(0, 3 * 64 * 64)]);
          const result = { shape: out.species.shape, all: text64(out.species.data), one: text64(again.species.data), kind: lathe.kind, threads: lathe.threads, inputs: program.inputs, labels: program.metadata("labels"), nothing: program.metadata("none") };
          lane.free(), program.free();
          return result;""", kind)
        all_, one = floats(got["all"]).reshape(2, -1), floats(got["one"])
        error = np.abs(all_ - expected).max()
        print(f"{kind}: grain is within {error:.1e} of its references, {got['threads']} threads")
        check(error < 2e-6 and np.abs(one - expected[0]).max() < 2e-6, f"{kind}: grain differs from its references by {error}")
        check(got["kind"] == kind and got["shape"] == [2, 6], f"{kind}: {got['kind']}, {got['shape']}")
        check(got["inputs"] == [{"name": "image", "dtype": "f32", "shape": [-1, 3, 64, 64]}], f"{kind}: inputs are {got['inputs']}")
        check(got["labels"].split(",")[0] == "ash" and got["nothing"] is None, f"{kind}: labels are {got['labels']}")


def bad_input(browser, address):
    whole = (args.site / "models/grain.lathe").read_bytes()
    (work / "short.lathe").write_bytes(whole[:5000])
    broken = bytearray(whole)
    broken[len(broken) // 2] ^= 1
    (work / "broken.lathe").write_bytes(broken)
    browser.open(address)
    got = browser.later(TOOLS + """
      const lathe = await openLathe({ kind: "simd" }), load = async (path) => lathe.load(await bytes(path));
      const program = await load("/models/grain.lathe"), lane = program.lane(), x = new Float32Array(3 * 64 * 64);
      const list = {
        short: await said(() => load("work/short.lathe")), broken: await said(() => load("work/broken.lathe")),
        empty: await said(() => lathe.load(new ArrayBuffer(0))), model: await said(() => load("work/grain.bin")),
        dtype: await said(() => lane.run(new Float64Array(x.length))), size: await said(() => lane.run(x.subarray(1))),
        shape: await said(() => lane.run({ data: x, shape: [1, 3, 32, 128] })), name: await said(() => lane.run({ picture: x })),
        few: await said(() => lane.run([])), huge: await said(() => lane.run({ data: x, shape: [1e9, 3, 64, 64] })),
        kind: await said(() => openLathe({ kind: "fast" })), place: await said(() => openLathe({ kind: "simd", base: new URL("/nowhere/", location) })),
      };
      list.after = lane.run(x).species.shape.join("x");
      lane.free(), program.free();
      list.freed = await said(() => lane.run(x));
      list.freed_program = await said(() => program.lane());
      // What is loaded and freed again and again leaves nothing behind.
      const archive = await bytes("/models/grain.lathe"), held = [];
      for (let i = 0; i < 60; ++i) {
        const p = lathe.load(archive), l = p.lane();
        l.run(x), p.free(), l.run(x), l.free();
        held.push(lathe.memoryBytes);
      }
      list.grown = String(held.at(-1) - held[10]);
      return list;""")
    for key, words in {"short": "format: .*cut short", "broken": "format: .*damaged", "empty": "format: ", "model": "format: .*no program archive",
                       "dtype": "type: input 'image' is f32: expected a Float32Array, got Float64Array", "size": "shape: input 'image' of f32 has 12287 elements",
                       "shape": "shape: ", "name": "value: there is no input 'picture'; the inputs are image", "few": "value: 0 inputs given, expected 1: image",
                       "huge": "shape: ", "kind": "value: kind is 'fast'", "place": "nowhere", "after": "^1x6$", "freed": "value: this lane was freed", "grown": "^0$",
                       "freed_program": "value: this program was freed"}.items():
        check(re.search(words, got[key]), f"{key}: '{got[key]}', expected '{words}'")


def page(browser, address, kinds):
    """The example page, as a person uses it."""
    picture = args.site / "models/board.png"
    browser.log()  # what was asked for in vain before
    for kind in kinds:
        browser.open(f"{address}?kind={kind}")
        check(browser.wait("return document.documentElement.dataset.ready") == "yes", f"{kind}: " + browser.run("return document.getElementById('say').textContent"))
        browser.run("document.getElementById('sample').click()")
        said = browser.wait("const t = document.getElementById('say').textContent; return t.endsWith('.') ? t : ''")
        print(f"{kind}: '{said}'")
        rows = browser.run("return [...document.querySelectorAll('#knots tr')].map((r) => [...r.cells].map((c) => c.textContent))")
        found = sum(int(n) for _, n in rows)
        # The native tool looks at the same picture.
        native("watch", args.root / "demo/knots/knots.onnx", picture, "--boxes", work / "boxes.csv")
        boxes = (work / "boxes.csv").read_text().splitlines()[1:]
        check(found == len(boxes), f"{kind}: {found} knots, the native tool finds {len(boxes)}")
        errors = browser.log()
        check(not errors, f"{kind}: errors in the page's log: {[e['message'] for e in errors]}")
        browser.shot(f"web_{kind}.png")
    # The page stays alive while the worker is at it.
    alive = browser.later("""
      let ticks = 0; const timer = setInterval(() => ++ticks, 5); document.getElementById("measure").click();
      await new Promise((done) => setTimeout(done, 1500)); clearInterval(timer); return ticks;""")
    check(alive > 100, f"the page had {alive} ticks of 5 ms in 1.5 s while frames were measured")
    rate = browser.wait("const c = document.querySelector('#times tr:last-child td:last-child'); return c && c.textContent.includes('frames') ? c.textContent : ''")
    print(f"{kinds[-1]}: {rate}, both models, pictures and drawing included")
    check(float(rate.split()[0]) > 1, rate)
    browser.shot("web.png")
    # What is no picture.
    browser.upload("#file", args.root / "README.md")
    said = browser.wait("const e = document.getElementById('say'); return e.className === 'wrong' ? e.textContent : ''")
    check("README.md cannot be read as a picture" in said, said)
    browser.shot("web_wrong.png")


def falls_back(browser, address):
    browser.open(address + "?alone=no")
    browser.wait("return document.documentElement.dataset.ready")
    about = browser.run("return document.getElementById('about').textContent")
    check("one thread" in about and "may not share memory" in about, about)
    got = browser.later(TOOLS + "return { best: bestKind(), error: await said(() => openLathe({ kind: 'threads' })) };")
    check(got["best"]["kind"] == "simd" and got["error"].startswith("unsupported: no threads here"), json.dumps(got))


def speed(browser, address):
    """Latency in the page on one thread against the native library at sse4, which has vectors of the same width; by turns."""
    for model in [args.root / "demo/grain/grain.onnx", *args.model]:
        shipped = work / f"{model.stem}.lathe"
        native("ship", model, "-o", shipped, "--any-machine")
        browser.open(address)
        times, others = [], []
        for _ in range(3):
            times.append(browser.later(TOOLS + """
              const lathe = await openLathe({ kind: "simd" }), program = lathe.load(await bytes(arguments_[0])), lane = program.lane();
              const shape = program.inputs[0].shape.map((d) => (d < 0 ? 1 : d)), x = new Float32Array(shape.reduce((a, b) => a * b, 1)).fill(0.25), given = [{ data: x, shape }];
              lane.run(given);
              const all = [];
              for (const begin = performance.now(); performance.now() - begin < 1500 && all.length < 500; ) { const t = performance.now(); lane.run(given); all.push(performance.now() - t); }
              return all.sort((a, b) => a - b)[all.length >> 1];""", f"work/{model.stem}.lathe"))
            others.append(json.loads(native("bench", model, "--batch", 1, "--threads", 1, "--isa", "sse4", "--seconds", 1.5, "--json", "-"))["latency_seconds"]["median"] * 1e3)
        ratio = float(np.median(np.array(others) / np.array(times)))
        print(f"{model.stem}: {np.median(times):.3f} ms in the page, {np.median(others):.3f} ms natively at sse4: {ratio:.2f} times its speed")


work = args.site / "work"
shutil.rmtree(work, ignore_errors=True)
work.mkdir()
server = subprocess.Popen([sys.executable, str(args.root / "web/serve.py"), str(args.site), "0"], stdout=subprocess.PIPE, text=True)
address = server.stdout.readline().strip()
browser = Browser(args.shots)
try:
    kinds = [k for k in ("plain", "simd", "threads") if (args.site / f"lathe/lathe-{k}.wasm").exists()]
    outputs_match(browser, address, kinds)
    bad_input(browser, address)
    falls_back(browser, address)
    page(browser, address, kinds)
    speed(browser, address)
finally:
    browser.close()
    server.terminate()
    shutil.rmtree(work, ignore_errors=True)
print(f"{len(failures)} failures" if failures else "all passed")
sys.exit(1 if failures else 0)
