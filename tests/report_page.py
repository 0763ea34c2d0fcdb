#!/usr/bin/env python3
"""Opens reports in headless Chromium and uses them: hover, search, click, fold, zoom, keys, both themes; hostile names.
Usage: report_page.py TOOL ROOT WORK_DIR [--shots DIR] [--model FILE]"""
import argparse
import pathlib
import subprocess
import sys
import time

import numpy as np

parser = argparse.ArgumentParser()
parser.add_argument("tool")
parser.add_argument("root", type=pathlib.Path)
parser.add_argument("work", type=pathlib.Path)
parser.add_argument("--shots", type=pathlib.Path)
parser.add_argument("--model", type=pathlib.Path, help="only time how this model's report draws")
parser.add_argument("--nodes", type=int, help="only time how the report of a net of so many nodes draws")
args = parser.parse_args()
sys.path.insert(0, str(args.root / "demo/make"))
import onnx_wire as wire  # noqa: E402
from browser import Browser  # noqa: E402

failures = []


def check(condition, what):
    if not condition:
        failures.append(what)
        print("FAILED:", what)


def report(model, page, *more):
    done = subprocess.run([args.tool, "report", str(model), "-o", str(page), "--seconds", "0.2", *more], capture_output=True, text=True)
    check(done.returncode == 0, f"report of {model.name}: exit code {done.returncode}: {done.stderr[:300]}")
    return done


def use(browser, page):
    """A report of the demo model, used as a person would."""
    browser.open(page)
    check(not browser.log(), "the page has errors in its log")
    drawn = browser.run("return latheDrawn")
    print(f"grain: {page.stat().st_size / 1e6:.2f} MB, drawn in {drawn:.0f} ms")
    for part in ("model", "latency", "time", "roofline", "timeline", "memory", "parity", "graph"):
        check(browser.run("return !!document.getElementById(arguments[0])", part), f"there is no section '{part}'")
    # Hover tells figures.
    for selector, words in (("#latency rect.bar", "runs"), ("#time rect", "of the time"), ("#roofline circle", "FLOP a byte"), ("#timeline rect.step", "step"),
                            ("#memory rect", "steps"), ("#parity circle", "error")):
        browser.scroll(selector)
        browser.pointer(*browser.middle(selector))
        time.sleep(0.1)
        text = browser.run("const t = document.getElementById('tip'); return t.hidden ? '' : t.textContent")
        check(words in text, f"hovering over {selector} says '{text}', expected '{words}' in it")
    # The keyboard reaches the same figures.
    browser.scroll("#roofline h2")
    browser.pointer(*browser.middle("#roofline h2"), press=True)
    browser.keys("\ue004")
    check(browser.run("return !document.getElementById('tip').hidden"), "focus shows no figures")
    # Search, go to it, read it.
    browser.scroll("#search")
    browser.pointer(*browser.middle("#search"), press=True)
    browser.keys("gemm")
    check(browser.run("return document.getElementById('found').textContent").startswith("1 of"), "search does not find the one Gemm")
    browser.keys("\ue007")
    chosen = browser.run("return lathe.state.nodes[lathe.state.selected].n.op")
    check(chosen == "Gemm", f"Enter chose {chosen}")
    side = browser.run("return document.getElementById('side').textContent")
    check("Reads" in side and "deviation" in side, "a chosen node tells nothing of what it reads and of its weights")
    check(browser.run("return document.querySelectorAll('#side svg rect').length") > 5, "there is no histogram of the weights")
    # A click chooses what is under it.
    node = browser.run("return lathe.state.nodes[lathe.state.nodes[lathe.state.selected].reads[0]].i")
    browser.run("const c = document.getElementById('canvas'); c.scrollIntoView({block: 'center'})")
    browser.pointer(*browser.run("return lathe.place(arguments[0])", node), press=True)
    check(browser.run("return lathe.state.selected") == node, "a click does not choose the node under it")
    # Zoom by wheel and keys, move by arrows.
    before = browser.run("return [lathe.state.t.k, lathe.state.t.x]")
    browser.run("document.getElementById('canvas').focus()")
    browser.keys("++")
    browser.keys("\ue014")
    after = browser.run("return [lathe.state.t.k, lathe.state.t.x]")
    check(after[0] > before[0] * 1.5, "+ does not zoom")
    check(after[1] != before[1], "arrows do not move")
    browser.shot("report_node.png")
    # Fold and unfold; colours.
    browser.pointer(*browser.middle("#fold"), press=True)
    check(browser.run("return lathe.state.folded.size") > 1, "nothing is folded")
    tall = "const m = lathe.state.modules; return Math.max(...m.map((b) => b.box.y1)) - Math.min(...m.map((b) => b.box.y0))"
    overlaps = """const b = lathe.state.modules.map((m) => m.box); let n = 0;
        b.forEach((p, i) => b.forEach((q, k) => { if (k > i && p.x0 < q.x1 && q.x0 < p.x1 && p.y0 < q.y1 && q.y0 < p.y1) ++n; })); return n"""
    small = browser.run(tall)
    check(browser.run(overlaps) == 0, "folded modules lie over one another")
    browser.shot("report_folded.png")
    browser.pointer(*browser.middle("#fold"), press=True)
    check(browser.run("return lathe.state.folded.size") == 0, "nothing is unfolded")
    check(small < 0.8 * browser.run(tall), "folding moves nothing together")
    # One module: it folds where it stands, and the rest moves up.
    browser.run("const c = document.getElementById('canvas'); c.focus()")
    browser.keys("0nf")
    check(browser.run("return lathe.state.folded.size") == 1, "f does not fold the module of a node")
    check(browser.run(overlaps) == 0, "a folded module lies over another")
    browser.keys("f0")
    # What narrowing costs, by node.
    browser.run("const c = document.getElementById('colours'); c.value = 'lost'; c.dispatchEvent(new Event('change'))")
    check("of the loss" in browser.run("return document.querySelector('#graph .legend').textContent"), "the graph has no colours of sensitivity")
    browser.shot("report_sensitivity.png")
    browser.run("const c = document.getElementById('colours'); c.value = 'time'; c.dispatchEvent(new Event('change'))")
    browser.run("document.getElementById('canvas').focus()")
    browser.keys("0")
    browser.scroll("#graph", "start")
    browser.shot("report_graph.png")
    # The other theme.
    dark = browser.run("return document.documentElement.dataset.theme")
    browser.run("document.querySelector('header button').click()")
    check(browser.run("return document.documentElement.dataset.theme") != dark, "the theme does not change")
    check(not browser.log(), "using the page leaves errors in its log")
    for part in ("model", "latency", "time", "roofline", "timeline", "memory", "parity"):
        browser.scroll("#" + part, "start")
        browser.shot(f"report_dark_{part}.png")
    browser.run("document.querySelector('header button').click(); scrollTo(0, 0)")
    browser.shot("report.png")


def hostile(browser, work):
    """Names that would be markup, scripts, or a mess, were they not text."""
    names = ["</script><script>window.hacked = 1</script>", "<img src=x onerror='window.hacked = 2'>", "\"'`;window.hacked=3//", "a" * 10000,
             "\u202eright to left\u202c", "\x01\x02\x1b[31mred", "{{script}}", "<!-- <script>", "\u2028line", "back\\slash\\u003c", "\U0001f9f6 \u0641\u062d\u0635"]
    nodes, before = [], "x"
    for i, name in enumerate(names):
        after = "y" if i == len(names) - 1 else name + "/value"
        nodes.append(wire.node("Relu", [before], [after], name=name))
        before = after
    model = work / "hostile.onnx"
    model.write_bytes(wire.model("</title><script>window.hacked = 4</script>", nodes, [wire.value("x", "float32", [1, 4])], [wire.value("y", "float32", [1, 4])], {},
                                 metadata={"<b>key</b>": "</script><script>window.hacked = 5</script>"}))
    page = work / "hostile.html"
    report(model, page)
    browser.open(page)
    check(browser.run("return window.hacked") is None, "a name was run as a script")
    check(not browser.log(), "hostile names leave errors in the log")
    check(browser.run("return lathe.state.nodes.length") == len(names), "nodes with hostile names are missing")
    check(browser.run("return document.images.length") == 0, "a name became a picture")
    check(browser.run("return document.querySelectorAll('main script, main b script').length") == 0, "a name became a script element")
    check(browser.run("return document.documentElement.scrollWidth <= innerWidth + 4"), "a long name widens the page")
    for i in range(len(names)):
        browser.run("document.getElementById('canvas').focus()")
        browser.keys("n")
        check(browser.run("return document.getElementById('side').textContent.length") > 10, f"node {i} cannot be read")
    check(browser.run("return window.hacked") is None, "looking at a node ran a script")
    browser.scroll("#graph", "start")
    browser.shot("report_hostile.png")


def looped(browser, work):
    """A loop whose body loses digits from its third trip on: the page goes into it."""
    large = np.array(3e7, dtype=np.float32)
    lossy = wire.graph("lossy", [wire.node("Add", ["h2", "large"], ["raised"], name="raise"), wire.node("Sub", ["raised", "large"], ["low"], name="lower")],
                       [], [wire.value("low", "float32", [4, 8])])
    kept = wire.graph("kept", [wire.node("Identity", ["h2"], ["same"])], [], [wire.value("same", "float32", [4, 8])])
    body = wire.graph("body", [wire.node("Tanh", ["h"], ["h2"], name="turn"), wire.node("Less", ["trip", "two"], ["early"]),
                               wire.node("If", ["early"], ["next"], name="choose", then_branch=kept, else_branch=lossy), wire.node("Identity", ["go"], ["on"])],
                      [wire.value("trip", "int64", []), wire.value("go", "bool", []), wire.value("h", "float32", [4, 8])],
                      [wire.value("on", "bool", []), wire.value("next", "float32", [4, 8])])
    model, page, markdown = work / "looped.onnx", work / "looped.html", work / "looped.md"
    model.write_bytes(wire.model("looped", [wire.node("Loop", ["trips", "", "x"], ["end"], name="repeat", body=body), wire.node("Neg", ["end"], ["y"], name="turn_over")],
                                 [wire.value("x", "float32", [4, 8])], [wire.value("y", "float32", [4, 8])],
                                 {"trips": np.array(5, dtype=np.int64), "two": np.array(2, dtype=np.int64), "large": large}))
    report(model, page)
    browser.open(page)
    titles = browser.run("return [...document.querySelectorAll('#parity h3')].map((h) => h.textContent)")
    check(len(titles) == 3, f"walks within a walk are missing: {titles}")
    check(len(titles) == 3 and "run 3 of its 'body'" in titles[1] and "else_branch" in titles[2], f"the page does not say which run: {titles}")
    check(not browser.log(), "the page of a loop leaves errors in the log")
    browser.scroll("#parity", "start")
    browser.shot("report_looped.png")
    subprocess.run([args.tool, "parity", str(model), "--walk", "--markdown", str(markdown)], stdout=subprocess.DEVNULL, check=False)
    text = markdown.read_text()
    check("run 3 of its `body`" in text and "`else_branch`" in text and "| lower" in text.replace("'", "").replace("node ", ""), "the Markdown does not go into the loop")


def large(browser, work, count):
    """A net of many nodes: how long it takes to draw, and to move."""
    nodes = []
    for i in range(count // 4):
        base, at = f"block_{i // 10}/unit_{i}", f"v{i}"
        last = f"v{i + 1}" if i < count // 4 - 1 else "y"
        nodes += [wire.node("Relu", [at], [at + "r"], name=base + "/relu"), wire.node("Tanh", [at], [at + "t"], name=base + "/tanh"),
                  wire.node("Add", [at + "r", at + "t"], [at + "a"], name=base + "/add"), wire.node("Sigmoid", [at + "a"], [last], name=base + "/gate")]
    model, page = work / f"large_{count}.onnx", work / f"large_{count}.html"
    model.write_bytes(wire.model("large", nodes, [wire.value("v0", "float32", [1, 4])], [wire.value("y", "float32", [1, 4])], {}))
    began = time.time()
    report(model, page, "--without", "walk", "--without", "profile")
    made = time.time() - began
    browser.open(page)
    check(browser.run("return lathe.state.nodes.length") == len(nodes), "nodes are missing")
    frame = browser.run("const t = performance.now(); for (let i = 0; i < 10; ++i) lathe.render(); return (performance.now() - t) / 10")
    print(f"{len(nodes)} nodes: {page.stat().st_size / 1e6:.2f} MB, made in {made:.1f} s, drawn in {browser.run('return latheDrawn'):.0f} ms, {frame:.1f} ms a frame")
    check(frame < 1000, f"a frame of {count} nodes takes {frame:.0f} ms")
    browser.scroll("#graph", "start")
    browser.shot(f"report_large_{count}.png")


args.work.mkdir(parents=True, exist_ok=True)
browser = Browser(args.shots)
try:
    if args.model:
        page = args.work / "model.html"
        report(args.model, page)
        browser.open(page)
        print(f"{args.model.name}: {page.stat().st_size / 1e6:.2f} MB, drawn in {browser.run('return latheDrawn'):.0f} ms")
        browser.shot("report_model.png")
    elif args.nodes:
        large(browser, args.work, args.nodes)
    else:
        page = args.work / "grain.html"
        grain = args.root / "demo/grain/grain.onnx"
        subprocess.run([args.tool, "parity", str(grain), "--budget", "--json", str(args.work / "budget.json")], check=True)
        report(grain, page, "--sensitivity", str(args.work / "budget.json"))
        use(browser, page)
        hostile(browser, args.work)
        looped(browser, args.work)
        large(browser, args.work, 1000)
finally:
    browser.close()
print("all of it works" if not failures else f"{len(failures)} failures")
sys.exit(1 if failures else 0)
