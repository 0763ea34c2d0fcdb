"use strict";
(() => {
  const facts = JSON.parse(document.getElementById("facts").textContent);
  const main = document.getElementById("main"), nav = document.getElementById("nav"), tip = document.getElementById("tip");
  const css = (name) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();

  // ---- small things ----
  // Everything that comes from a model is put in as text, never as markup.
  function el(tag, attributes, ...children) {
    const e = document.createElement(tag);
    for (const [k, v] of Object.entries(attributes || {})) {
      if (k === "class") e.className = v;
      else if (k.startsWith("on")) e.addEventListener(k.slice(2), v);
      else e.setAttribute(k, v);
    }
    for (const c of children.flat()) if (c !== null && c !== undefined) e.append(c);
    return e;
  }
  const cut = (text, most) => { const t = String(text); return t.length <= most ? t : t.slice(0, most / 2 - 1) + "…" + t.slice(t.length - most / 2 + 1); };
  const name = (text, most = 160) => el("bdi", { class: "name" }, cut(text, most));
  const sig = (v, n = 3) => String(Number(Number(v).toPrecision(n)));
  const seconds = (s) => s === null || s === undefined ? "" : s < 1e-6 ? sig(s * 1e9) + " ns" : s < 1e-3 ? sig(s * 1e6) + " µs" : s < 1 ? sig(s * 1e3) + " ms" : sig(s) + " s";
  const count = (n) => { const u = ["", " k", " M", " G", " T"]; let i = 0; while (Math.abs(n) >= 1000 && i < 4) { n /= 1000; ++i; } return sig(n) + u[i]; };
  const bytes = (b) => { const u = ["B", "KiB", "MiB", "GiB", "TiB"]; let i = 0; while (b >= 1024 && i < 4) { b /= 1024; ++i; } return (i ? b.toFixed(1) : b) + " " + u[i]; };
  const percent = (v) => (100 * v).toFixed(v < 0.1 ? 1 : 0) + " %";
  const shape = (s) => Array.isArray(s) ? (s.length ? s.join(" × ") : "scalar") : String(s);
  const power = (e) => e === 0 ? "0" : e === "inf" || e === "nan" ? e : Number(e).toExponential(1);

  function show(event, text) {
    tip.textContent = cut(text, 900);
    tip.hidden = false;
    const r = event.target.getBoundingClientRect ? event.target.getBoundingClientRect() : { left: 0, bottom: 0 };
    const x = event.clientX ?? r.left, y = event.clientY ?? r.bottom;
    tip.style.left = Math.min(x + 14, innerWidth - tip.offsetWidth - 8) + "px";
    tip.style.top = Math.min(y + 14, innerHeight - tip.offsetHeight - 8) + "px";
  }
  const hide = () => { tip.hidden = true; };
  // Marks that tell their figures to the pointer and to the keyboard.
  function telling(selection, text) {
    return selection.attr("tabindex", 0).attr("role", "img").attr("aria-label", (d) => cut(text(d), 300))
      .on("mousemove", (d) => show(d3.event, text(d))).on("focus", (d) => show(d3.event, text(d))).on("mouseleave", hide).on("blur", hide);
  }
  function section(id, title, text) {
    const s = el("section", { id }, el("h2", {}, title), text ? el("p", { class: "quiet" }, text) : null);
    main.append(s);
    nav.append(el("a", { href: "#" + id }, title));
    return s;
  }
  function svg(parent, width, height, label) {
    return d3.select(parent).append("svg").attr("viewBox", `0 0 ${width} ${height}`).attr("role", "group").attr("aria-label", label);
  }
  function axes(s, x, y, box, xLabel, yLabel, xTicks, yTicks) {
    const bottom = d3.axisBottom(x), left = d3.axisLeft(y);
    if (xTicks) xTicks(bottom);
    if (yTicks) yTicks(left);
    s.append("g").attr("class", "axis").attr("transform", `translate(0,${box.bottom})`).call(bottom);
    s.append("g").attr("class", "axis").attr("transform", `translate(${box.left},0)`).call(left);
    s.append("text").attr("class", "quiet").attr("x", (box.left + box.right) / 2).attr("y", box.bottom + 34).attr("text-anchor", "middle").text(xLabel);
    s.append("text").attr("class", "quiet").attr("transform", `translate(${box.left - (box.label || 46)},${(box.top + box.bottom) / 2}) rotate(-90)`).attr("text-anchor", "middle").text(yLabel);
  }
  function table(head, rows, numeric) {
    const cls = (i) => numeric && numeric[i] ? "n" : "";
    return el("div", { class: "scroll", tabindex: 0 }, el("table", {},
      el("thead", {}, el("tr", {}, head.map((t, i) => el("th", { class: cls(i) }, t)))),
      el("tbody", {}, rows.map((r) => el("tr", {}, r.map((c, i) => el("td", { class: cls(i) }, c)))))));
  }
  const factList = (list) => el("div", { class: "facts" }, list.filter(Boolean).map(([value, what]) => el("div", {}, el("b", {}, value), el("span", {}, what))));

  const kinds = { "convolution": "--steel", "transposed convolution": "--steel", "byte convolution": "--steel", "product": "--steel", "byte product": "--steel", "tape": "--moss", "attention": "--plum",
    "recurrent": "--plum", "rotary": "--plum", "softmax": "--ochre", "normalisation": "--ochre", "reduction": "--ochre", "max pool": "--ochre", "average pool": "--ochre", "plain": "--brick", "control": "--brick" };
  const kindColour = (kind) => css(kinds[kind] || "--slate");

  // ---- the model ----
  const inspect = facts.inspect || {}, bench = facts.bench, profile = facts.profile, parity = facts.parity, walk = facts.walk;
  const theme = el("button", { type: "button", onclick: () => { setTheme(document.documentElement.dataset.theme === "dark" ? "light" : "dark"); draw(); } }, "");
  function setTheme(t) { document.documentElement.dataset.theme = t; theme.textContent = t === "dark" ? "Light" : "Dark"; }
  setTheme(matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light");
  document.getElementById("head").append(el("h1", {}, name(facts.model, 120)), el("span", { class: "quiet" }, facts.made), theme);

  function drawModel() {
    const s = section("model", "The model");
    s.append(factList([
      [count(inspect.parameters || 0), "parameters, " + bytes(inspect.parameter_bytes || 0)],
      [String(inspect.nodes ?? ""), "nodes" + (profile ? ", in " + profile.steps.length + " steps" : "")],
      inspect.flops ? [count(inspect.flops) + "FLOP", "an inference"] : null,
      bench ? [seconds(bench.latency_seconds.median), "median of " + bench.latency_seconds.runs + " runs"] : null,
      bench ? [count(bench.items_per_second) + "/s", "items, " + bench.lanes + " × " + bench.threads + " threads, " + bench.isa] : null,
      bench && bench.share_of_peak ? [percent(bench.share_of_peak), "of the measured peak, " + sig(bench.peak_gflops) + " GFLOP/s"] : null,
      bench && bench.share_of_reading ? [percent(bench.share_of_reading), "of what reading its weights allows"] : null,
      inspect.arena_bytes !== undefined ? [bytes(inspect.arena_bytes), "arena; no plan needs less than " + bytes(inspect.arena_bound_bytes)] : null,
      parity ? [parity.pass ? "agrees" : "DIFFERS", "with its reference outputs"] : null,
    ]));
    const port = (p, what) => [what, name(p.name), p.dtype, shape(p.shape === null ? p.type : p.shape)];
    s.append(table(["", "name", "dtype", "shape"], [...(inspect.inputs || []).map((p) => port(p, "input")), ...(inspect.outputs || []).map((p) => port(p, "output"))]));
    const two = el("div", { class: "two" });
    s.append(two);
    if (inspect.ops) two.append(el("div", {}, el("h3", {}, "Ops"), table(["op", "nodes"], Object.entries(inspect.ops).sort((a, b) => b[1] - a[1]).map(([o, n]) => [name(o), String(n)]), [0, 1])));
    const about = [["producer", inspect.producer], ["graph", inspect.name], ["opset", inspect.opsets ? Object.entries(inspect.opsets).map(([d, v]) => d + " " + v).join(", ") : ""],
      ...Object.entries(inspect.metadata || {})].filter(([, v]) => v);
    if (about.length) two.append(el("div", {}, el("h3", {}, "About it"), table(["", ""], about.map(([k, v]) => [name(k, 60), name(v, 400)]))));
    for (const f of inspect.faults || []) s.append(el("p", { class: "bad" }, name((f.where ? f.where + ": " : "") + f.what, 600)));
  }

  // ---- latency ----
  function drawLatency() {
    if (!bench) return;
    const s = section("latency", "Latency", "Each run's time; inputs: " + bench.inputs + ".");
    const l = bench.latency_seconds, v = (bench.samples_seconds || []).slice().sort((a, b) => a - b);
    if (v.length > 4) {
      const box = { left: 62, right: 1140, top: 14, bottom: 250 };
      const g = svg(s, 1160, 296, "Histogram of run times");
      const low = v[0], high = Math.max(v[Math.floor(v.length * 0.985)], low * 1.02);
      const x = d3.scaleLinear().domain([low, high]).range([box.left, box.right]);
      const bins = d3.histogram().domain([low, high]).thresholds(d3.range(48).map((k) => low + (high - low) * k / 48))(v.map((t) => Math.min(t, high * 0.9999999)));
      const y = d3.scaleLinear().domain([0, d3.max(bins, (b) => b.length)]).range([box.bottom, box.top]);
      axes(g, x, y, box, "time of a run (what is slower than 98.5 % of them is in the last bar)", "runs", (a) => a.ticks(8).tickFormat(seconds), (a) => a.ticks(5));
      telling(g.selectAll("rect.bar").data(bins.filter((b) => b.length)).enter().append("rect").attr("class", "bar").attr("x", (b) => x(b.x0) + 0.5).attr("width", (b) => Math.max(1, x(b.x1) - x(b.x0) - 1))
        .attr("y", (b) => y(b.length)).attr("height", (b) => box.bottom - y(b.length)).attr("fill", css("--steel")),
        (b) => `${seconds(b.x0)} to ${seconds(b.x1)}\n${b.length} of ${v.length} runs (${percent(b.length / v.length)})`);
      [["median", l.median], ["90 %", l.p90], ["99 %", l.p99]].filter((m) => m[1] <= high).forEach(([what, at], i) => {
        g.append("line").attr("x1", x(at)).attr("x2", x(at)).attr("y1", box.top).attr("y2", box.bottom).attr("stroke", css("--brick")).attr("stroke-dasharray", "4 3");
        g.append("text").attr("x", x(at) + 4).attr("y", box.top + 12 + 15 * i).text(`${what} ${seconds(at)}`);
      });
    }
    s.append(factList([[seconds(l.min), "fastest"], [seconds(l.median), "median"], [seconds(l.p90), "90 % below"], [seconds(l.p99), "99 % below"],
      [seconds(bench.first_run_seconds), "first run; loading " + seconds(bench.load_seconds) + ", compiling " + seconds(bench.compile_seconds)], [bytes(bench.peak_memory_bytes), "memory at most"]]));
    const e = bench.environment || {};
    s.append(el("p", { class: "quiet" }, `${e.cpu || ""}, ${e.usable_cores} of ${e.cores} cores; ${e.system}; lathe ${e.version}, ${e.compiler}${e.governor ? "; governor " + e.governor : ""}; load ${sig(e.load || 0)}`));
    if (bench.noisy) s.append(el("p", { class: "bad" }, `The machine was noisy: spread ${percent(bench.spread)} of the median, peak moved by ${percent(bench.peak_drift)}. Do not trust absolute times.`));
  }

  // Steps with those inside control flow, by their places: "7.body.2".
  const withInner = (list, before) => list.flatMap((p) => [{ ...p, place: before + p.step }, ...(p.inside || []).flatMap((b) => withInner(b.steps, `${before}${p.step}.${b.body}.`))]);

  // ---- time ----
  function bars(parent, rows, label) {
    const h = 21, width = 560, left = 210;
    const g = svg(parent, width, rows.length * h + 8, label);
    const x = d3.scaleLinear().domain([0, d3.max(rows, (r) => r.value) || 1]).range([0, width - left - 92]);
    const row = g.selectAll("g.row").data(rows).enter().append("g").attr("class", "row").attr("transform", (r, i) => `translate(0,${i * h + 4})`);
    row.append("text").attr("x", left - 8).attr("y", 14).attr("text-anchor", "end").text((r) => cut(r.label, 30));
    telling(row.append("rect").attr("x", left).attr("height", h - 5).attr("width", (r) => Math.max(1, x(r.value))).attr("fill", (r) => r.colour), (r) => r.tip);
    row.append("text").attr("class", "quiet").attr("x", (r) => left + x(r.value) + 6).attr("y", 14).text((r) => r.note);
  }
  function drawTime() {
    if (!profile) return;
    const s = section("time", "Where the time goes", `${profile.runs} runs with the clock read after every step, which changes a run by ${percent(Math.abs(profile.overhead_of_timing))}.`);
    const two = el("div", { class: "two" }), left = el("div", {}, el("h3", {}, "By op at the head of the step")), right = el("div", {}, el("h3", {}, "By step, longest first"));
    s.append(two);
    two.append(left, right);
    bars(left, profile.ops.slice(0, 18).map((o) => ({ label: o.op, value: o.seconds, colour: css("--steel"), note: percent(o.share),
      tip: `${o.op}: ${seconds(o.seconds)} in ${o.steps} steps, ${percent(o.share)} of the time\n${count(o.flops)}FLOP, ${bytes(o.bytes)}\n${percent(o.limit_seconds / o.seconds)} of the machine's limit` })), "Time by op");
    const order = withInner(profile.steps, "").sort((a, b) => b.share - a.share);
    bars(right, order.slice(0, 18).map((p) => ({ label: `${p.place} ${p.nodes[0] || p.kind}`, value: p.seconds.median, colour: kindColour(p.kind), note: percent(p.share),
      tip: `step ${p.place}, ${p.kind}: ${seconds(p.seconds.median)}, ${percent(p.share)} of the time\n${p.nodes.join(" + ")}\n${p.output} ${p.layout}\n${sig(p.gflops)} GFLOP/s, ${sig(p.gbytes_per_second)} GB/s: ${percent(p.share_of_limit)} of the limit (${p.limit})\n${p.recipe}` })), "Time by step");
  }

  function drawRoofline() {
    if (!profile) return;
    const dots = withInner(profile.steps, "").filter((p) => p.flops > 0 && p.bytes > 0 && p.seconds.median > 0);
    if (!dots.length) return;
    const s = section("roofline", "Roofline", "Each step by its arithmetic for each byte that it must move, and the rate it reached; the larger the dot, the more of the time. No step can be above the line of its arithmetic.");
    const box = { left: 70, right: 1140, top: 14, bottom: 380 };
    const g = svg(s, 1160, 426, "Roofline");
    const peak = profile.peak_gflops, wide = profile.bandwidth[profile.bandwidth.length - 1].bytes_per_second / 1e9, near = profile.bandwidth[0].bytes_per_second / 1e9;
    const intensity = (p) => p.flops / p.bytes, rate = (p) => p.flops / p.seconds.median / 1e9;
    const x = d3.scaleLog().domain([Math.min(0.1, d3.min(dots, intensity) / 1.5), Math.max(100, d3.max(dots, intensity) * 1.5)]).range([box.left, box.right]);
    // Peaks of other arithmetic than f32: of bytes, or of bf16, so many products for one.
    const others = [...new Map(dots.filter((p) => p.arithmetic && p.arithmetic !== "f32" && p.peak_gflops !== peak).map((p) => [p.arithmetic + (p.products > 1 ? ` / ${p.products}` : ""), p.peak_gflops]))];
    const top = Math.max(peak, ...others.map((o) => o[1]));
    const y = d3.scaleLog().domain([Math.max(peak * 1e-5, d3.min(dots, rate) / 2), top * 1.6]).range([box.bottom, box.top]);
    axes(g, x, y, box, "FLOP a byte", "GFLOP/s", (a) => a.ticks(8, "~g"), (a) => a.ticks(6, "~g"));
    const roof = (bandwidth, what) => {
      const [x0, x1] = x.domain(), turn = Math.min(Math.max(top / bandwidth, x0), x1);
      const at = (v) => Math.max(y.domain()[0], Math.min(top, v * bandwidth));
      g.append("path").attr("d", d3.line()([[x(Math.max(x0, y.domain()[0] / bandwidth)), y(at(Math.max(x0, y.domain()[0] / bandwidth)))], [x(turn), y(at(turn))]])).attr("fill", "none").attr("stroke", css("--quiet")).attr("stroke-dasharray", what === "memory" ? "" : "5 4");
      const label = Math.max(x0 * 1.3, y.domain()[0] / bandwidth * 1.5);
      g.append("text").attr("class", "quiet").attr("x", x(label) + 8).attr("y", y(at(label)) + 14).text(`${what}: ${sig(bandwidth)} GB/s`);
    };
    roof(near, "nearest cache");
    roof(wide, "memory");
    for (const [name, high] of [[others.length ? "measured peak, f32" : "measured peak", peak], ...others]) {
      g.append("path").attr("d", d3.line()([[x(Math.min(Math.max(high / near, x.domain()[0]), x.domain()[1])), y(high)], [x(x.domain()[1]), y(high)]])).attr("stroke", css("--quiet")).attr("stroke-dasharray", high === peak ? "" : "2 4");
      // Among the dots of faster arithmetic its name would not be read on the right.
      const left = high === peak && others.length;
      g.append("text").attr("class", "quiet").attr("x", left ? x(Math.max(high / near, x.domain()[0])) + 10 : box.right).attr("y", y(high) + (left ? 16 : -6)).attr("text-anchor", left ? "start" : "end").text(`${name}: ${sig(high)} G${name.startsWith("int8") ? "OP" : "FLOP"}/s`);
    }
    telling(g.selectAll("circle").data(dots).enter().append("circle").attr("cx", (p) => x(intensity(p))).attr("cy", (p) => y(Math.max(y.domain()[0], rate(p)))).attr("r", (p) => 3.5 + 16 * Math.sqrt(p.share))
      .attr("fill", (p) => kindColour(p.kind)).attr("fill-opacity", 0.72).attr("stroke", css("--card")),
      (p) => `step ${p.place}, ${p.kind}: ${p.nodes[0] || ""}\n${sig(rate(p))} GFLOP/s at ${sig(intensity(p))} FLOP a byte\n${percent(p.share_of_limit)} of the limit (${p.limit}), ${percent(p.share)} of the time`);
    const colours = [...new Set(dots.map((p) => kindColour(p.kind)))];
    s.append(legend(colours.map((c) => [[...new Set(dots.filter((p) => kindColour(p.kind) === c).map((p) => p.kind))].join(", "), c])));
  }
  const legend = (list) => el("div", { class: "legend" }, list.map(([text, colour]) => el("span", {}, el("i", { style: "background:" + colour }), text)));

  function drawTimeline() {
    const t = profile && profile.timeline;
    if (!t || !t.steps.length) return;
    const s = section("timeline", "Timeline", "One run, the one with the median time: what each thread was at. Where there is nothing, it waited.");
    const workers = d3.max(t.workers, (w) => w.worker) || 0, h = 34, box = { left: 90, right: 1140, top: 8, bottom: 8 + (workers + 1) * h };
    const g = svg(s, 1160, box.bottom + 44, "Timeline of steps and threads");
    const x = d3.scaleLinear().domain([0, t.seconds]).range([box.left, box.right]);
    g.append("g").attr("class", "axis").attr("transform", `translate(0,${box.bottom})`).call(d3.axisBottom(x).ticks(8).tickFormat(seconds));
    for (let w = 0; w <= workers; ++w) g.append("text").attr("x", box.left - 8).attr("y", box.top + w * h + 20).attr("text-anchor", "end").text(w ? "worker " + w : "caller");
    telling(g.selectAll("rect.step").data(t.steps).enter().append("rect").attr("class", "step").attr("x", (d) => x(d.begin)).attr("width", (d) => Math.max(0.6, x(d.begin + d.seconds) - x(d.begin) - 0.4)).attr("y", box.top + 3).attr("height", h - 8)
      .attr("fill", (d) => kindColour(profile.steps[d.step - 1].kind)), (d) => `step ${d.step}, ${profile.steps[d.step - 1].kind}: ${profile.steps[d.step - 1].nodes.join(" + ")}\nfrom ${seconds(d.begin)}, ${seconds(d.seconds)}`);
    telling(g.selectAll("rect.spell").data(t.workers).enter().append("rect").attr("class", "spell").attr("x", (d) => x(Math.max(0, d.begin))).attr("width", (d) => Math.max(0.6, x(d.begin + d.seconds) - x(d.begin) - 0.4)).attr("y", (d) => box.top + d.worker * h + 3).attr("height", h - 8)
      .attr("fill", css("--slate")), (d) => `worker ${d.worker}: ${d.tasks} tasks\nfrom ${seconds(d.begin)}, ${seconds(d.seconds)}`);
  }

  function drawMemory() {
    const parts = inspect.arena || [];
    if (!parts.length) return;
    const s = section("memory", "Memory", `Each value's place in the arena, from the step that makes it to the last that reads it: ${bytes(inspect.arena_bytes)} in all, ${(inspect.arena_bound_bytes ? inspect.arena_bytes / inspect.arena_bound_bytes : 1).toFixed(2)} times what no plan can go below.`);
    const steps = (inspect.steps || []).length || d3.max(parts, (p) => p.last_step), box = { left: 100, right: 1140, top: 10, bottom: 280, label: 84 };
    const g = svg(s, 1160, 326, "Plan of memory over the steps");
    const x = d3.scaleLinear().domain([1, steps + 1]).range([box.left, box.right]), y = d3.scaleLinear().domain([0, inspect.arena_bytes]).range([box.bottom, box.top]);
    axes(g, x, y, box, "step", "place in the arena", (a) => a.ticks(Math.min(20, steps)).tickFormat(d3.format("d")), (a) => a.tickValues(d3.range(0, inspect.arena_bytes * 1.001, 2 ** Math.max(3, Math.ceil(Math.log2(inspect.arena_bytes / 6))))).tickFormat(bytes));
    telling(g.selectAll("rect").data(parts).enter().append("rect").attr("x", (p) => x(p.first_step)).attr("width", (p) => Math.max(1, x(p.last_step + 1) - x(p.first_step) - 0.6)).attr("y", (p) => y(p.offset + p.bytes)).attr("height", (p) => Math.max(0.8, y(p.offset) - y(p.offset + p.bytes) - 0.4))
      .attr("fill", (p) => css(p.value ? "--steel" : "--ochre")).attr("fill-opacity", 0.68), (p) => `${p.value || "scratch memory"}: ${bytes(p.bytes)}\nsteps ${p.first_step} to ${p.last_step}`);
    s.append(legend([["values", css("--steel")], ["scratch memory of a step", css("--ochre")]]));
  }

  // ---- parity ----
  function drawParity() {
    if (!parity && !walk) return;
    const s = section("parity", "Parity");
    if (parity) {
      s.append(el("p", {}, el("span", { class: parity.pass ? "good" : "bad" }, parity.pass ? "Every output agrees" : "Outputs differ"), ": " + parity.compared + "."));
      const rows = [];
      for (const c of parity.cases || []) for (const o of c.outputs) rows.push([name(c.case), name(o.output), shape(o.shape), power(o.max_absolute), power(o.error), el("span", { class: o.pass ? "good" : "bad" }, o.pass ? "agrees" : "differs")]);
      s.append(table(["case", "output", "shape", "max abs", "error", ""], rows, [0, 0, 0, 1, 1, 0]));
    }
    if (walk) drawWalk(s, walk, "Error of each value against " + walk.against, walk.verdict);
  }

  // Errors against depth; below, those of the run of a subgraph in which they arise.
  function drawWalk(s, w, title, verdict) {
    if (!w.values || !w.values.length) return;
    s.append(el("h3", {}, name(title, 200)));
    if (verdict) s.append(el("p", { class: "quiet" }, name(verdict, 2000)));
    const box = { left: 70, right: 1140, top: 12, bottom: 260 }, g = svg(s, 1160, 306, "Error against depth");
    const error = (v) => v.error === "inf" || v.error === "nan" || v.error === undefined ? 10 : Math.min(10, Math.max(1e-9, v.error));
    const deepest = d3.max(w.values, (v) => v.depth) + 1;
    const x = d3.scaleLinear().domain([0, deepest]).range([box.left, box.right]), y = d3.scaleLog().domain([1e-9, 10]).range([box.bottom, box.top]);
    axes(g, x, y, box, "depth: nodes on the longest path from an input", "error, relative", (a) => a.ticks(Math.min(12, deepest)).tickFormat(d3.format("d")), (a) => a.ticks(6, "~e"));
    telling(g.selectAll("circle").data(w.values).enter().append("circle").attr("cx", (v) => x(v.depth)).attr("cy", (v) => y(error(v))).attr("r", (v) => v.value === w.jump ? 7 : 4.5)
      .attr("fill", (v) => css(v.value === w.jump ? "--ochre" : v.comparison && v.comparison.pass ? "--steel" : "--brick")), (v) => `${v.value}\n${v.node}${v.step ? ", step " + v.step : ""}\nerror ${power(v.error)}${v.value === w.jump ? "\nthe error jumps here" : ""}`);
    if (w.within) drawWalk(s, w.within.walk, `Inside ${w.within.node}: run ${w.within.run} of its '${w.within.body}', on the exact values that it is given`);
  }

  function drawVariants() {
    const c = facts.variants;
    if (!c || !Array.isArray(c.variants) || !c.variants.length) return;
    const s = section("variants", "Variants", "Ways to ship it, timed by turns" + (c.title ? ": " + c.title : "") + ".");
    const between = (v, text) => v ? `${text(v.value)} (${text(v.low)} to ${text(v.high)})` : "";
    const accuracy = (v) => (100 * v).toFixed(1) + " %";
    s.append(table(["variant", "file", "memory", "accuracy", "latency", "items/s", "speed", ""], c.variants.map((v) => v.failed ? [name(v.name), "", "", "", "", "", "", el("span", { class: "bad" }, name(v.failed, 200))] :
      [name(v.name), bytes(v.file_bytes), bytes(v.memory_bytes), between(v.accuracy, accuracy), seconds(v.latency_seconds.median), count(v.items_per_second), between(v.speed, (x) => x.toFixed(2)),
        (v.broken_limits || []).length ? el("span", { class: "bad" }, name(v.broken_limits.join("; "), 200)) : v.unbeaten ? el("span", { class: "good" }, "unbeaten") : ""]), [0, 1, 1, 1, 1, 1, 1, 0]));
    const dots = c.variants.filter((v) => v.accuracy && v.items_per_second);
    if (dots.length < 2) return;
    const box = { left: 86, right: 1140, top: 14, bottom: 260, label: 70 }, g = svg(s, 1160, 306, "Accuracy against speed");
    const x = d3.scaleLinear().domain([0, 1.12 * d3.max(dots, (v) => v.items_per_second)]).range([box.left, box.right]);
    const y = d3.scaleLinear().domain([d3.min(dots, (v) => v.accuracy.low), Math.min(1, d3.max(dots, (v) => v.accuracy.high) + 0.002)]).nice().range([box.bottom, box.top]);
    axes(g, x, y, box, "items a second", "accuracy", (a) => a.ticks(8), (a) => a.ticks(6).tickFormat(accuracy));
    g.selectAll("line.range").data(dots).enter().append("line").attr("class", "range").attr("x1", (v) => x(v.items_per_second)).attr("x2", (v) => x(v.items_per_second)).attr("y1", (v) => y(v.accuracy.low)).attr("y2", (v) => y(v.accuracy.high)).attr("stroke", css("--line"));
    telling(g.selectAll("circle").data(dots).enter().append("circle").attr("cx", (v) => x(v.items_per_second)).attr("cy", (v) => y(v.accuracy.value)).attr("r", (v) => 4 + 8 * Math.sqrt(v.file_bytes / d3.max(dots, (w) => w.file_bytes))).attr("fill", css("--steel")).attr("fill-opacity", 0.75),
      (v) => `${v.name}\n${between(v.accuracy, accuracy)} right\n${count(v.items_per_second)} items/s, ${seconds(v.latency_seconds.median)}\n${bytes(v.file_bytes)}`);
    g.selectAll("text.name").data(dots).enter().append("text").attr("class", "name").attr("x", (v) => x(v.items_per_second) + 14).attr("y", (v, i) => y(v.accuracy.value) + 4 + 13 * (i % 3 - 1)).text((v) => cut(v.name, 24));
  }

  function drawHistory() {
    const entries = ((facts.history || {}).entries || []).filter((e) => e.figures && e.figures.latency).slice().reverse();
    if (!entries.length) return;
    const s = section("history", "History", "What the logbook holds of this model: the median of each result, with what was near it.");
    const box = { left: 76, right: 1140, top: 12, bottom: 220 }, g = svg(s, 1160, 266, "Latency of results kept over time");
    const f = (e) => e.figures.latency, x = d3.scaleLinear().domain([0.5, entries.length + 0.5]).range([box.left, box.right]);
    const y = d3.scaleLinear().domain([0, 1.15 * d3.max(entries, (e) => Math.min(f(e).high ?? f(e).value, 3 * f(e).value))]).range([box.bottom, box.top]);
    axes(g, x, y, box, "result, oldest first", "latency", (a) => a.ticks(Math.min(16, entries.length)).tickFormat(d3.format("d")), (a) => a.ticks(5).tickFormat(seconds));
    entries.forEach((e, i) => { if (f(e).low !== undefined && f(e).low !== null) g.append("line").attr("x1", x(i + 1)).attr("x2", x(i + 1)).attr("y1", y(f(e).low)).attr("y2", y(Math.min(f(e).high ?? f(e).value, y.domain()[1]))).attr("stroke", css("--quiet")); });
    telling(g.selectAll("circle").data(entries).enter().append("circle").attr("cx", (e, i) => x(i + 1)).attr("cy", (e) => y(f(e).value)).attr("r", 5).attr("fill", css("--steel")),
      (e) => `entry ${e.id}, ${e.at}\n${e.kind}, ${e.options}\n${seconds(f(e).value)}, lathe ${e.version || ""}`);
  }

  // ---- the graph ----
  const graph = { nodes: [], edges: [], modules: [], folded: new Set(), selected: -1, hits: new Set(), t: d3.zoomIdentity };
  const boxAround = (nodes) => ({ x0: d3.min(nodes, (n) => n.x - n.w / 2) - 8, x1: d3.max(nodes, (n) => n.x + n.w / 2) + 8, y0: d3.min(nodes, (n) => n.y - n.h / 2) - 20, y1: d3.max(nodes, (n) => n.y + n.h / 2) + 8 });
  // Closes gaps wider than `most` between what lies at these spans: where each place moves to. The order stays.
  function closing(spans, most) {
    const steps = [];
    let end = -Infinity, shift = 0;
    for (const [a, b] of spans.sort((p, q) => p[0] - q[0])) {
      if (end > -Infinity && a - end > most) { shift += a - end - most; steps.push([a, shift]); }
      end = Math.max(end, b);
    }
    return (v) => { let s = 0; for (const [at, by] of steps) { if (at > v) break; s = by; } return v - s; };
  }
  // Folded modules are small, and what lies around them moves up.
  function relayout() {
    const shown = graph.nodes.filter((n) => !graph.folded.has(n.module)), small = graph.modules.filter((m) => graph.folded.has(m.k));
    for (const n of graph.nodes) [n.x, n.y] = n.home;
    for (const m of small) {
      const b = m.home, x = (b.x0 + b.x1) / 2, w = Math.min(240, b.x1 - b.x0);
      m.box = { x0: x - w / 2, x1: x + w / 2, y0: b.y0 + 8, y1: Math.min(b.y1, b.y0 + 60) };
    }
    const framed = new Set(graph.modules.filter((m) => !graph.folded.has(m.k)).map((m) => m.k));
    const above = (n) => framed.has(n.module) ? 20 : 0;
    for (const c of new Set(graph.nodes.map((n) => n.column))) {
      const nodes = shown.filter((n) => n.column === c), boxes = small.filter((m) => m.column === c);
      const to = closing([...nodes.map((n) => [n.home[1] - n.h / 2 - above(n), n.home[1] + n.h / 2]), ...boxes.map((m) => [m.box.y0, m.box.y1])], 34);
      // Columns begin at the top.
      const first = d3.min([...nodes.map((n) => to(n.home[1] - n.h / 2 - above(n))), ...boxes.map((m) => to(m.box.y0))]) || 0;
      for (const n of nodes) n.y = to(n.home[1] - n.h / 2 - above(n)) + n.h / 2 + above(n) - first;
      for (const m of boxes) { const y = to(m.box.y0) - first, h = m.box.y1 - m.box.y0; m.box.y0 = y; m.box.y1 = y + h; }
    }
    const to = closing([...shown.map((n) => [n.x - n.w / 2 - 8, n.x + n.w / 2 + 8]), ...small.map((m) => [m.box.x0, m.box.x1])], 60);
    for (const n of shown) n.x = to(n.x - n.w / 2 - 8) + n.w / 2 + 8;
    for (const m of small) { const x = to(m.box.x0), w = m.box.x1 - m.box.x0; m.box.x0 = x; m.box.x1 = x + w; }
    for (const m of graph.modules) {
      if (!graph.folded.has(m.k)) { m.box = boxAround(m.nodes); continue; }
      for (const n of m.nodes) { n.x = (m.box.x0 + m.box.x1) / 2; n.y = (m.box.y0 + m.box.y1) / 2; }
    }
  }
  function readGraph() {
    const list = inspect.node_list || [], layout = facts.layout;
    if (!list.length || !layout) return false;
    const maker = new Map(), steps = new Map((profile ? profile.steps : []).map((p) => [p.step, p])), errors = new Map(((walk || {}).values || []).map((v) => [v.value, v.error]));
    const lost = new Map(Object.entries(facts.sensitivity || {}));
    const inStep = new Map();
    list.forEach((n) => { if (n.step) inStep.set(n.step, (inStep.get(n.step) || 0) + 1); });
    list.forEach((n, i) => {
      const at = layout.nodes[i] || [0, 0, 1, 1];
      const p = n.step ? steps.get(n.step) : null;
      const made = (n.outputs || []).map((o) => o.name);
      graph.nodes.push({ i, n, x: at[0], y: at[1], w: at[2], h: at[3], home: [at[0], at[1]], column: (layout.columns || [])[i] || 0, module: layout.modules[i] ?? -1, p, lost: lost.get(n.name), share: p ? p.share : 0, error: made.map((m) => errors.get(m)).find((e) => e !== undefined),
        text: [n.name, n.op, ...made, ...(n.outputs || []).map((o) => o.type)].join(" ").toLowerCase(), reads: [], readBy: [] });
      for (const m of made) maker.set(m, i);
    });
    list.forEach((n, i) => {
      const from = new Set((n.inputs || []).filter((v) => !v.constant).map((v) => maker.get(v.name)).concat((n.captures || []).map((c) => maker.get(c))).filter((k) => k !== undefined && k !== i));
      for (const k of from) { graph.edges.push([k, i]); graph.nodes[i].reads.push(k); graph.nodes[k].readBy.push(i); }
    });
    (layout.module_names || []).forEach((m, k) => {
      const inside = graph.nodes.filter((n) => n.module === k);
      if (!inside.length) return;
      const taken = new Set(inside.map((n) => n.n.step).filter(Boolean));
      graph.modules.push({ k, name: m, nodes: inside, home: boxAround(inside), box: boxAround(inside), column: inside[0].column, lost: d3.sum(inside, (n) => n.lost || 0),
        share: d3.sum([...taken], (st) => (steps.get(st) || { share: 0 }).share) });
    });
    return true;
  }
  const byModule = (k) => graph.modules.find((m) => m.k === k);

  function drawGraph() {
    if (!graph.nodes.length) return;
    const s = section("graph", "The graph", "Drag to move, wheel or + and - to zoom, click a node to read it; arrows move, n and p step from node to node, f folds the module.");
    const canvas = el("canvas", { tabindex: 0, "aria-label": "The graph of the model, " + graph.nodes.length + " nodes", id: "canvas" }), side = el("div", { class: "side", "aria-live": "polite", id: "side" });
    const search = el("input", { type: "search", placeholder: "name, op or shape", "aria-label": "Search nodes", id: "search" });
    const colours = el("select", { "aria-label": "Colour by", id: "colours" }, [["op", "colour by op"], ["time", "colour by time"], ["error", "colour by error"], ["lost", "colour by sensitivity"]].filter(([v]) => v === "op" || (v === "time" ? profile : v === "error" ? walk : facts.sensitivity)).map(([v, t]) => el("option", { value: v }, t)));
    const fold = el("button", { type: "button", id: "fold", onclick: () => { if (graph.folded.size) graph.folded.clear(); else graph.modules.forEach((m) => graph.folded.add(m.k)); relayout(); told(); fit(); } }, "Fold all");
    const told = () => { fold.textContent = graph.folded.size ? "Unfold all" : "Fold all"; };
    // One module, folded or unfolded where it stands on the screen.
    function turn(k) {
      const corner = () => { const b = byModule(k).box; return [(b.x0 + b.x1) / 2, b.y0]; }, [x0, y0] = graph.t.apply(corner());
      if (!graph.folded.delete(k)) graph.folded.add(k);
      relayout();
      told();
      const [x1, y1] = graph.t.apply(corner());
      d3.select(canvas).call(zoom.translateBy, (x0 - x1) / graph.t.k, (y0 - y1) / graph.t.k);
    }
    const whole = el("button", { type: "button", onclick: () => fit() }, "Whole graph");
    s.append(el("div", { class: "tools" }, search, colours, graph.modules.length ? fold : null, whole), el("div", { class: "graph" }, canvas, side));
    const key = el("div", { class: "legend" });
    s.append(key);
    const ctx = canvas.getContext("2d");
    const zoom = d3.zoom().scaleExtent([0.01, 6]).on("zoom", () => { graph.t = d3.event.transform; render(); });
    d3.select(canvas).call(zoom).on("dblclick.zoom", null);
    const palette = ["--steel", "--moss", "--ochre", "--plum", "--brick", "--slate"];
    const opOrder = Object.entries(inspect.ops || {}).sort((a, b) => b[1] - a[1]).map((o) => o[0]);
    const most = d3.max(graph.nodes, (n) => n.share) || 1, mostLost = d3.max(graph.nodes, (n) => n.lost || 0) || 1;
    function colourOf(n) {
      if (colours.value === "time") return d3.interpolateRgb(css("--cool"), css("--hot"))(Math.sqrt(n.share / most));
      if (colours.value === "error") return n.error === undefined ? css("--cool") : d3.interpolateRgb(css("--cool"), css("--hot"))(Math.min(1, Math.max(0, (Math.log10(Math.max(1e-9, n.error === "inf" ? 10 : n.error)) + 8) / 7)));
      if (colours.value === "lost") return d3.interpolateRgb(css("--cool"), css("--hot"))(Math.sqrt((n.lost || 0) / mostLost));
      const at = opOrder.indexOf(n.n.op);
      return d3.interpolateRgb(css("--card"), css(at >= 0 && at < 5 ? palette[at] : "--slate"))(0.45);
    }
    function legendNow() {
      key.replaceChildren();
      if (colours.value === "op") key.append(...opOrder.slice(0, 5).map((o, i) => el("span", {}, el("i", { style: "background:" + d3.interpolateRgb(css("--card"), css(palette[i]))(0.45) }), cut(o, 30))), el("span", {}, el("i", { style: "background:" + d3.interpolateRgb(css("--card"), css("--slate"))(0.45) }), "other ops"));
      else {
        const [least, top] = { time: ["no time", percent(most) + " of the time"], error: ["1e-8 or less", "0.1 or more"], lost: ["costs nothing", percent(mostLost) + " of the loss"] }[colours.value];
        key.append(el("span", {}, el("i", { style: "background:" + css("--cool") }), least), el("span", {}, el("i", { style: "background:" + css("--hot") }), top));
      }
    }
    const hidden = (n) => graph.folded.has(n.module);
    const anchor = (n) => hidden(n) ? ((b) => [(b.x0 + b.x1) / 2, b.y0, b.y1])(byModule(n.module).box) : [n.x, n.y - n.h / 2, n.y + n.h / 2];
    function render() {
      const r = canvas.getBoundingClientRect(), ratio = devicePixelRatio || 1;
      if (canvas.width !== Math.round(r.width * ratio) || canvas.height !== Math.round(r.height * ratio)) { canvas.width = Math.round(r.width * ratio); canvas.height = Math.round(r.height * ratio); }
      const t = graph.t, k = t.k;
      ctx.setTransform(ratio, 0, 0, ratio, 0, 0);
      ctx.clearRect(0, 0, r.width, r.height);
      ctx.setTransform(ratio * k, 0, 0, ratio * k, ratio * t.x, ratio * t.y);
      const x0 = -t.x / k, x1 = (r.width - t.x) / k, y0 = -t.y / k, y1 = (r.height - t.y) / k;
      const ink = css("--ink"), quiet = css("--quiet"), line = css("--line"), card = css("--card"), steel = css("--steel");
      ctx.textBaseline = "middle";
      // Frames lie below the edges, folded modules above them.
      const module = (m) => {
        const b = m.box, folded = graph.folded.has(m.k);
        if (b.x1 < x0 || b.x0 > x1 || b.y1 < y0 || b.y0 > y1) return;
        ctx.fillStyle = folded ? (colours.value === "time" || colours.value === "lost" ? d3.interpolateRgb(css("--cool"), css("--hot"))(Math.min(1, Math.sqrt(colours.value === "time" ? m.share : m.lost))) : css("--cool")) : "transparent";
        ctx.strokeStyle = line;
        ctx.lineWidth = 1 / Math.min(1, k);
        ctx.beginPath();
        ctx.rect(b.x0, b.y0, b.x1 - b.x0, b.y1 - b.y0);
        ctx.fill();
        ctx.stroke();
        if (k > 0.12 || folded) {
          ctx.fillStyle = folded ? ink : quiet;
          ctx.font = `${folded ? 14 : 11}px sans-serif`;
          ctx.textAlign = folded ? "center" : "left";
          const width = Math.max(20, b.x1 - b.x0 - 8), middle = (b.y0 + b.y1) / 2;
          if (folded) {
            ctx.fillText(cut(m.name, 40), (b.x0 + b.x1) / 2, middle - 9, width);
            ctx.fillStyle = quiet;
            ctx.font = "12px sans-serif";
            ctx.fillText(`${m.nodes.length} nodes${m.share ? ", " + percent(m.share) : ""}`, (b.x0 + b.x1) / 2, middle + 10, width);
          } else {
            ctx.fillText(cut(m.name, 60), b.x0 + 5, b.y0 + 10, width);
          }
        }
      };
      for (const m of graph.modules) if (!graph.folded.has(m.k)) module(m);
      ctx.lineWidth = Math.max(1, 0.8 / k);
      ctx.strokeStyle = quiet;
      ctx.globalAlpha = 0.75;
      ctx.beginPath();
      for (const [a, b] of graph.edges) {
        const na = graph.nodes[a], nb = graph.nodes[b];
        if (hidden(na) && hidden(nb) && na.module === nb.module) continue;
        const [ax, , ay] = anchor(na), [bx, by] = anchor(nb);
        if (Math.max(ax, bx) < x0 || Math.min(ax, bx) > x1 || Math.max(ay, by) < y0 || Math.min(ay, by) > y1) continue;
        ctx.moveTo(ax, ay);
        // Into the next column it goes up: out below, in from above.
        const bend = by > ay ? (by - ay) / 2 : 70;
        ctx.bezierCurveTo(ax, ay + bend, bx, by - bend, bx, by);
      }
      ctx.stroke();
      ctx.globalAlpha = 1;
      for (const m of graph.modules) if (graph.folded.has(m.k)) module(m);
      ctx.textAlign = "center";
      const words = k > 0.35;
      for (const n of graph.nodes) {
        if (hidden(n) || n.x + n.w / 2 < x0 || n.x - n.w / 2 > x1 || n.y + n.h / 2 < y0 || n.y - n.h / 2 > y1) continue;
        ctx.fillStyle = colourOf(n);
        ctx.fillRect(n.x - n.w / 2, n.y - n.h / 2, n.w, n.h);
        const chosen = n.i === graph.selected, hit = graph.hits.has(n.i);
        ctx.strokeStyle = chosen ? css("--brick") : hit ? steel : line;
        ctx.lineWidth = (chosen || hit ? 3 : 1) / Math.min(1, Math.max(k, 0.2));
        ctx.strokeRect(n.x - n.w / 2, n.y - n.h / 2, n.w, n.h);
        if (words) {
          ctx.fillStyle = ink;
          ctx.font = "12px sans-serif";
          ctx.fillText(cut(n.n.op, 24), n.x, n.y - 7, n.w - 6);
          ctx.fillStyle = quiet;
          ctx.font = "9.5px sans-serif";
          ctx.fillText(cut(n.n.name || "#" + n.i, 26), n.x, n.y + 8, n.w - 6);
        }
      }
    }
    function fit() {
      const r = canvas.getBoundingClientRect();
      const seen = [...graph.nodes.filter((n) => !hidden(n)).map((n) => [n.x - n.w / 2, n.x + n.w / 2, n.y - n.h / 2, n.y + n.h / 2]), ...graph.modules.map((m) => [m.box.x0, m.box.x1, m.box.y0, m.box.y1])];
      const x0 = d3.min(seen, (s) => s[0]), x1 = d3.max(seen, (s) => s[1]), y0 = d3.min(seen, (s) => s[2]), y1 = d3.max(seen, (s) => s[3]);
      const k = Math.min(1.4, 0.95 * Math.min(r.width / (x1 - x0), r.height / (y1 - y0)));
      d3.select(canvas).call(zoom.transform, d3.zoomIdentity.translate(r.width / 2 - k * (x0 + x1) / 2, r.height / 2 - k * (y0 + y1) / 2).scale(k));
    }
    function go(i) {
      const n = graph.nodes[i], r = canvas.getBoundingClientRect();
      if (graph.folded.delete(n.module)) { relayout(); told(); }
      const k = Math.max(graph.t.k, 0.9);
      select(i);
      d3.select(canvas).call(zoom.transform, d3.zoomIdentity.translate(r.width / 2 - k * n.x, r.height / 2 - k * n.y).scale(k));
    }
    function select(i) {
      graph.selected = i;
      side.replaceChildren();
      if (i < 0) { render(); return; }
      const { n, p, reads, readBy, error, lost } = graph.nodes[i];
      side.append(el("h2", {}, name(n.op, 60)), el("p", {}, name(n.name || "no name", 300)));
      if (p) side.append(el("p", { class: "quiet" }, `step ${p.step}, ${p.kind}: ${seconds(p.seconds.median)}, ${percent(p.share)} of the time, ${percent(p.share_of_limit)} of the limit`), el("p", { class: "quiet" }, name(p.recipe, 200)));
      else if (profile) side.append(el("p", { class: "quiet" }, n.step ? "step " + n.step : "no step of its own: folded away, a view, or a constant"));
      if (lost !== undefined) side.append(el("p", { class: "quiet" }, "it makes " + percent(lost) + " of the loss"));
      if (error !== undefined) side.append(el("p", { class: "quiet" }, "error of its value: " + power(error)));
      if (n.attributes) side.append(el("h3", {}, "Attributes"), table(["", ""], Object.entries(n.attributes).map(([k, v]) => [name(k, 60), name(typeof v === "string" ? v : JSON.stringify(v), 200)])));
      side.append(el("h3", {}, "Reads"), table(["value", "type"], (n.inputs || []).map((v) => [name(v.name || "(left out)", 80), name(v.type || "", 80)])));
      for (const v of n.inputs || []) {
        const w = v.weight;
        if (!w || w.min === undefined) continue;
        side.append(el("p", { class: "quiet" }, name(v.name, 60), `: ${sig(w.min)} to ${sig(w.max)}, mean ${sig(w.mean)}, deviation ${sig(w.deviation)}${w.zero_share > 0.001 ? ", " + percent(w.zero_share) + " zero" : ""}${w.not_finite ? ", " + w.not_finite + " not finite" : ""}`));
        if (w.histogram) {
          const g = svg(side, 300, 66, "Histogram of " + cut(v.name, 60)), top = d3.max(w.histogram);
          g.selectAll("rect").data(w.histogram).enter().append("rect").attr("x", (d, j) => j * 300 / w.histogram.length).attr("width", 300 / w.histogram.length - 1).attr("y", (d) => 60 - 56 * d / top).attr("height", (d) => 56 * d / top).attr("fill", css("--steel"));
        }
      }
      side.append(el("h3", {}, "Makes"), table(["value", "type"], (n.outputs || []).map((v) => [name(v.name, 80), name(v.type, 80)])));
      const links = (list) => list.map((k) => el("button", { type: "button", class: "hit", onclick: () => go(k) }, name(graph.nodes[k].n.op + "  " + graph.nodes[k].n.name, 60)));
      if (reads.length) side.append(el("h3", {}, "From"), ...links(reads.slice(0, 20)));
      if (readBy.length) side.append(el("h3", {}, "Read by"), ...links(readBy.slice(0, 20)));
      render();
    }
    function find() {
      const q = search.value.trim().toLowerCase();
      graph.hits = new Set();
      if (!q) { select(graph.selected); return; }
      const hits = graph.nodes.filter((n) => n.text.includes(q));
      hits.forEach((n) => graph.hits.add(n.i));
      side.replaceChildren(el("p", { class: "quiet", id: "found" }, `${hits.length} of ${graph.nodes.length} nodes`), ...hits.slice(0, 200).map((n) => el("button", { type: "button", class: "hit", onclick: () => go(n.i) }, name(n.n.op + "  " + (n.n.name || "#" + n.i), 60))));
      render();
    }
    search.addEventListener("input", find);
    search.addEventListener("keydown", (e) => { if (e.key === "Enter" && graph.hits.size) go([...graph.hits][0]); });
    colours.addEventListener("change", () => { legendNow(); render(); });
    function at(event) {
      const r = canvas.getBoundingClientRect(), [x, y] = graph.t.invert([event.clientX - r.left, event.clientY - r.top]);
      const node = graph.nodes.find((n) => !hidden(n) && Math.abs(x - n.x) <= n.w / 2 && Math.abs(y - n.y) <= n.h / 2);
      const module = graph.modules.find((m) => x >= m.box.x0 && x <= m.box.x1 && y >= m.box.y0 && y <= (graph.folded.has(m.k) ? m.box.y1 : m.box.y0 + 20));
      return { node, module };
    }
    canvas.addEventListener("click", (e) => {
      const { node, module } = at(e);
      if (node) select(node.i);
      else if (module) turn(module.k);
    });
    canvas.addEventListener("mousemove", (e) => {
      const { node, module } = at(e);
      if (node) show(e, `${node.n.op}: ${cut(node.n.name, 200)}\n${(node.n.outputs || []).map((o) => o.type).join(", ")}${node.p ? `\nstep ${node.p.step}: ${seconds(node.p.seconds.median)}, ${percent(node.p.share)}` : ""}`);
      else if (module) show(e, `${cut(module.name, 200)}: ${module.nodes.length} nodes; click to ${graph.folded.has(module.k) ? "unfold" : "fold"}`);
      else hide();
    });
    canvas.addEventListener("mouseleave", hide);
    canvas.addEventListener("keydown", (e) => {
      const pan = { ArrowLeft: [60, 0], ArrowRight: [-60, 0], ArrowUp: [0, 60], ArrowDown: [0, -60] }[e.key];
      if (pan) d3.select(canvas).call(zoom.translateBy, pan[0] / graph.t.k, pan[1] / graph.t.k);
      else if (e.key === "+" || e.key === "=") d3.select(canvas).call(zoom.scaleBy, 1.3);
      else if (e.key === "-") d3.select(canvas).call(zoom.scaleBy, 1 / 1.3);
      else if (e.key === "0") fit();
      else if (e.key === "n") go((graph.selected + 1) % graph.nodes.length);
      else if (e.key === "p") go((graph.selected + graph.nodes.length - 1) % graph.nodes.length);
      else if (e.key === "f" && graph.selected >= 0) { const k = graph.nodes[graph.selected].module; if (k >= 0) turn(k); }
      else return;
      e.preventDefault();
    });
    new ResizeObserver(render).observe(canvas);
    legendNow();
    fit();
    // Where a node is on the screen, for whoever drives this page.
    window.lathe = { place: (i) => { const r = canvas.getBoundingClientRect(), n = graph.nodes[i], [x, y] = graph.t.apply([n.x, n.y]); return [r.left + x, r.top + y]; }, state: graph, render };
  }

  const readable = readGraph();
  function draw() {
    main.replaceChildren();
    nav.replaceChildren();
    hide();
    for (const part of [drawModel, drawLatency, drawTime, drawRoofline, drawTimeline, drawMemory, drawParity, drawVariants, drawHistory]) part();
    if (readable) drawGraph();
    for (const note of facts.notes || []) main.append(el("p", { class: "quiet" }, note));
  }
  const began = performance.now();
  draw();
  window.latheDrawn = performance.now() - began;
})();
