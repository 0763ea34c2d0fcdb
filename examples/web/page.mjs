// A picture that is dropped on the page goes through two programs in a worker: `grain` tells the species, `knots` finds knots.
import { openInWorker } from "./lathe/worker.mjs";
import { boxesOfCells, pixelsToInput } from "./lathe/pictures.mjs";

const by = (id) => document.getElementById(id);
const asked = new URLSearchParams(location.search);
let lathe, grain, knots, picture;

function say(text, wrong = false) {
  by("say").textContent = text;
  by("say").className = wrong ? "wrong" : "";
}

async function program(name) {
  const reply = await fetch(`models/${name}.lathe`);
  if (!reply.ok) throw new Error(`models/${name}.lathe: ${reply.status} ${reply.statusText}`);
  const one = await lathe.load(await reply.arrayBuffer());
  const [mean, scale, channels, labels] = await Promise.all(["mean", "scale", "channels", "labels"].map(one.metadata));
  return { ...one, pixels: { mean, scale, channels }, labels: (labels ?? "").split(",") };
}

// The picture on a canvas of that size, as the browser resamples it.
function pixelsAt(width, height) {
  const canvas = new OffscreenCanvas(width, height), context = canvas.getContext("2d", { willReadFrequently: true });
  context.imageSmoothingQuality = "high";
  context.drawImage(picture, 0, 0, width, height);
  return context.getImageData(0, 0, width, height);
}

function rows(id, list) {
  by(id).replaceChildren(...list.map(([a, b]) => {
    const row = document.createElement("tr");
    for (const text of [a, b]) row.appendChild(document.createElement("td")).textContent = text;
    return row;
  }));
}

async function species() {
  const { dtype, data } = Object.values(await grain.run({ image: { data: pixelsToInput(pixelsAt(64, 64), grain.pixels), shape: [1, 3, 64, 64] } }))[0];
  if (dtype !== "f32") throw new Error(`grain gives ${dtype}`);
  return [...data].map((p, i) => ({ label: grain.labels[i], p })).sort((a, b) => b.p - a.p);
}

async function boxes() {
  // Its own size, on sides that 8 divides.
  const width = Math.max(8, Math.round(picture.width / 8) * 8), height = Math.max(8, Math.round(picture.height / 8) * 8);
  const input = pixelsToInput(pixelsAt(width, height), knots.pixels);
  const out = await knots.run({ data: input, shape: [1, 3, height, width] });
  return { found: boxesOfCells(Object.values(out)[0], width, height), width, height };
}

function draw({ found, width, height }) {
  const canvas = by("canvas"), context = canvas.getContext("2d"), zoom = Math.max(1, Math.min(4, Math.floor(560 / picture.width)));
  canvas.width = picture.width * zoom, canvas.height = picture.height * zoom;
  context.imageSmoothingEnabled = false;
  context.drawImage(picture, 0, 0, canvas.width, canvas.height);
  const sx = canvas.width / width, sy = canvas.height / height, colours = ["#1f9d55", "#d97706", "#dc2626"];
  context.lineWidth = 2;
  context.font = "600 13px system-ui, sans-serif";
  for (const b of found) {
    const x = b.x * sx, y = b.y * sy, text = `${knots.labels[b.label]} ${Math.round(100 * b.score)} %`;
    context.strokeStyle = context.fillStyle = colours[b.label % colours.length];
    context.strokeRect(x, y, b.width * sx, b.height * sy);
    // Above the box or below it, where it covers less of the others.
    const wide = context.measureText(text).width + 8, left = Math.max(0, Math.min(x - 1, canvas.width - wide));
    const covered = (at) => found.reduce((sum, o) => {
      const w = Math.min(left + wide, (o.x + o.width) * sx) - Math.max(left, o.x * sx);
      const h = Math.min(at + 18, (o.y + o.height) * sy) - Math.max(at, o.y * sy);
      return sum + (o !== b && w > 0 && h > 0 ? w * h : 0);
    }, at < 0 || at + 18 > canvas.height ? 1e9 : 0);
    const above = y - 18, below = y + b.height * sy, top = covered(below) < covered(above) ? below : above;
    context.fillRect(left, top, wide, 18);
    context.fillStyle = "white";
    context.fillText(text, left + 4, top + 13);
  }
  canvas.hidden = false;
  by("hint").hidden = true;
}

let last = "";  // the size that was compiled for
async function look() {
  const first = [], size = `${picture.width} x ${picture.height}`;
  if (size !== last) {
    const begin = performance.now();
    await Promise.all([species(), boxes()]);
    first.push(["the first, compiled", `${(performance.now() - begin).toFixed(0)} ms`]);
    last = size;
  }
  const t0 = performance.now(), kinds = await species(), t1 = performance.now(), seen = await boxes(), t2 = performance.now();
  rows("species", kinds.slice(0, 3).map(({ label, p }) => [label, `${(100 * p).toFixed(1)} %`]));
  const counts = knots.labels.map((label, i) => [label, seen.found.filter((b) => b.label === i).length]);
  rows("knots", counts.map(([label, n]) => [label, String(n)]));
  rows("times", [["species", `${(t1 - t0).toFixed(1)} ms`], ["knots", `${(t2 - t1).toFixed(1)} ms`], ...first]);
  draw(seen);
  say(`${kinds[0].label}; ${seen.found.length === 1 ? "one knot" : `${seen.found.length} knots`}.`);
  return { kinds, ...seen };
}

async function show(blob, name) {
  try {
    picture = await createImageBitmap(blob, { colorSpaceConversion: "none" });
  } catch {
    return say(`${name} cannot be read as a picture; PNG, JPEG and WebP can.`, true);
  }
  try {
    await look();
    by("measure").disabled = false;
  } catch (e) {
    say(`${name}: ${e.message}`, true);
  }
}

async function sample() {
  await show(await (await fetch("models/board.png")).blob(), "the sample");
}

by("file").onchange = (e) => e.target.files[0] && show(e.target.files[0], e.target.files[0].name);
by("sample").onclick = sample;
const drop = by("drop");
drop.ondragover = (e) => (e.preventDefault(), drop.classList.add("over"));
drop.ondragleave = () => drop.classList.remove("over");
drop.ondrop = (e) => {
  e.preventDefault();
  drop.classList.remove("over");
  const file = e.dataTransfer.files[0];
  if (file) show(file, file.name);
  else say("That was no file.", true);
};
by("measure").onclick = async () => {
  by("measure").disabled = true;
  const begin = performance.now();
  let frames = 0;
  for (; performance.now() - begin < 2000; ++frames) await Promise.all([species(), boxes()]);
  const rate = (1000 * frames) / (performance.now() - begin);
  by("measure").disabled = false;
  by("times").insertRow().replaceChildren(...["both", `${rate.toFixed(1)} frames/s`].map((text) => {
    const cell = document.createElement("td");
    cell.textContent = text;
    return cell;
  }));
};

try {
  const options = {};
  if (asked.has("kind")) options.kind = asked.get("kind");
  if (asked.has("threads")) options.threads = Number(asked.get("threads"));
  lathe = await openInWorker(options);
  [grain, knots] = await Promise.all([program("grain"), program("knots")]);
  const threads = lathe.threads === 1 ? "one thread" : `${lathe.threads} threads`;
  by("about").textContent = `Mellow Lathe ${lathe.version}, ${lathe.kind === "plain" ? "no vectors" : "128-bit vectors"}, ${threads}. ${lathe.why}`;
  say("ready");
  document.documentElement.dataset.ready = "yes";
} catch (e) {
  say(e.message, true);
  document.documentElement.dataset.ready = "no";
}
