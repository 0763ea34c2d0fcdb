// Mellow Lathe in a page or a worker: programs from archives (`lathe ship`), lanes that run them. Everything stays in the client.
// Calls block; in a page that must stay alive, use worker.mjs, which has the same with promises.

const TYPES = new Map([
  [1, ["f32", Float32Array]], [2, ["f64", Float64Array]], [3, ["f16", Uint16Array]], [4, ["bf16", Uint16Array]],
  [11, ["i8", Int8Array]], [12, ["i16", Int16Array]], [13, ["i32", Int32Array]], [14, ["i64", BigInt64Array]],
  [16, ["u8", Uint8Array]], [17, ["u16", Uint16Array]], [18, ["u32", Uint32Array]], [19, ["u64", BigUint64Array]],
  [20, ["bool", Uint8Array]],
]);
const STATUS = ["ok", "format", "unsupported", "shape", "type", "value", "resource", "cancelled", "internal"];

/** What went wrong: `kind` is one of format, unsupported, shape, type, value, resource, cancelled, internal. */
export class LatheError extends Error {
  constructor(kind, message) {
    super(message);
    this.name = "LatheError";
    this.kind = kind;
  }
}

// Modules of a few bytes that only validate where the feature is there.
const validates = (...bytes) => WebAssembly.validate(new Uint8Array([0, 97, 115, 109, 1, 0, 0, 0, ...bytes]));
const hasVectors = () => validates(1, 5, 1, 96, 0, 1, 123, 3, 2, 1, 0, 10, 10, 1, 8, 0, 65, 0, 253, 15, 253, 98, 11);
const hasExceptions = () => validates(1, 4, 1, 96, 0, 0, 3, 2, 1, 0, 10, 8, 1, 6, 0, 6, 64, 25, 11, 11);

/** Which build this browser can run: {kind: "threads" | "simd" | "plain", why}. `why` says what is missing, or is "". */
export function bestKind() {
  if (typeof WebAssembly !== "object" || !hasExceptions())
    throw new LatheError("unsupported", "this browser has no WebAssembly with exceptions; update it");
  if (!hasVectors()) return { kind: "plain", why: "this browser has no WebAssembly vectors: one number at a time" };
  if (typeof SharedArrayBuffer === "undefined" || globalThis.crossOriginIsolated === false)
    return {
      kind: "simd",
      why: "the page may not share memory: one thread. Serve it with Cross-Origin-Opener-Policy: same-origin and " +
        "Cross-Origin-Embedder-Policy: require-corp for more",
    };
  if ((globalThis.navigator?.hardwareConcurrency ?? 1) < 2) return { kind: "simd", why: "this machine has one core" };
  return { kind: "threads", why: "" };
}

/**
 * Fetches and starts the module. kind: as bestKind() has it unless given. threads: the most that lanes may have, of the kind "threads"
 * (unless given: the machine's cores). base: where the package's files are.
 */
export async function openLathe({ kind, threads, base = new URL("./", import.meta.url) } = {}) {
  const best = bestKind();
  const ranks = ["plain", "simd", "threads"];
  if (kind !== undefined && !ranks.includes(kind)) throw new LatheError("value", `kind is '${kind}', expected plain, simd or threads`);
  if (kind !== undefined && ranks.indexOf(kind) > ranks.indexOf(best.kind)) throw new LatheError("unsupported", `no ${kind} here: ${best.why}`);
  const chosen = kind ?? best.kind;
  const most = chosen === "threads" ? Math.max(1, threads ?? globalThis.navigator?.hardwareConcurrency ?? 1) : 1;
  const script = new URL(`lathe-${chosen}.js`, base).href;
  const { default: loadModule } = await import(script).catch((e) => {
    throw new LatheError("resource", `${script}: this build of the package cannot be loaded: ${e.message}`);
  });
  const module = await loadModule({ crew: most });
  return new Lathe(module, chosen, chosen === best.kind ? best.why : "", most);
}

class Lathe {
  #m;
  constructor(module, kind, why, threads) {
    this.#m = new Memory(module);
    this.kind = kind;
    this.why = why;
    this.threads = threads;
    this.version = this.#m.text(module._lathe_version());
  }
  /** Memory that the module has taken; it never gets smaller. */
  get memoryBytes() {
    return this.#m.buffer().byteLength;
  }
  /** A program from the bytes of an archive, an ArrayBuffer or a view of one. threads: of its lanes, unless they say otherwise. */
  load(bytes, { threads = this.threads } = {}) {
    return new Program(this.#m, ArrayBuffer.isView(bytes) ? new Uint8Array(bytes.buffer, bytes.byteOffset, bytes.byteLength) : new Uint8Array(bytes),
      Math.min(threads, this.threads));
  }
}

// The module's memory, which moves when it grows: views are made anew for each use.
class Memory {
  constructor(module) {
    this.module = module;
    this.scratch = module._malloc(256);
  }
  buffer() {
    return this.module.HEAPU8.buffer;
  }
  view() {
    return new DataView(this.buffer());
  }
  text(at) {
    return at === 0 ? null : this.module.UTF8ToString(at);
  }
  room(bytes, alignment = 64) {
    const block = this.module._malloc(bytes + alignment);
    if (block === 0) throw new LatheError("resource", `${bytes} bytes do not fit in memory`);
    return { block, at: (block + alignment - 1) & -alignment, bytes };
  }
  check(status) {
    if (status !== 0) throw new LatheError(STATUS[status] ?? "internal", this.text(this.module._lathe_error_text()));
  }
  withText(text, f) {
    const bytes = this.module.lengthBytesUTF8(text) + 1, at = this.module._malloc(bytes);
    try {
      this.module.stringToUTF8(text, at, bytes);
      return f(at);
    } finally {
      this.module._free(at);
    }
  }
  // A lathe_tensor: dtype, rank, address of dims, address of data.
  tensor(at) {
    const v = this.view(), rank = v.getInt32(at + 4, true), dims = v.getUint32(at + 8, true), shape = [];
    for (let d = 0; d < rank; ++d) shape.push(Number(v.getBigInt64(dims + 8 * d, true)));
    const [dtype, array] = TYPES.get(v.getInt32(at, true)) ?? ["undefined", null];
    return { dtype, shape, array, data: v.getUint32(at + 12, true) };
  }
}

// An archive lies in memory for as long as its program or one of its lanes reads weights there.
class Archive {
  #m;
  #room;
  #users = 0;
  constructor(memory, bytes) {
    this.#m = memory;
    this.#room = memory.room(bytes.byteLength);
    this.at = this.#room.at;
    new Uint8Array(memory.buffer(), this.at, bytes.byteLength).set(bytes);
  }
  take() {
    ++this.#users;
  }
  leave() {
    if (--this.#users <= 0) this.#m.module._free(this.#room.block);
  }
}

class Program {
  #m;
  #program;
  #archive;
  constructor(memory, bytes, threads) {
    this.#m = memory;
    const { module, scratch } = memory;
    this.#archive = new Archive(memory, bytes);
    this.#archive.take();
    const status = module._lathe_load_archive_from(this.#archive.at, bytes.byteLength, threads, scratch);
    if (status !== 0) this.#archive.leave();
    memory.check(status);
    this.#program = memory.view().getUint32(scratch, true);
    const ports = (count, describe) => {
      const list = [];
      for (let i = 0; i < count; ++i) {
        memory.check(describe(this.#program, i, scratch, scratch + 16));
        const { dtype, shape } = memory.tensor(scratch + 16);
        list.push({ name: memory.text(memory.view().getUint32(scratch, true)), dtype, shape });
      }
      return list;
    };
    /** {name, dtype, shape}; an open dim is -1. */
    this.inputs = ports(module._lathe_input_count(this.#program), module._lathe_input_at);
    this.outputs = ports(module._lathe_output_count(this.#program), module._lathe_output_at);
    this.threads = threads;
  }
  /** The model's metadata under a key ("labels"), or null. */
  metadata(key) {
    return this.#m.withText(key, (at) => this.#m.text(this.#m.module._lathe_metadata(this.#program, at)));
  }
  lane({ threads = 0 } = {}) {
    if (this.#program === 0) throw new LatheError("value", "this program was freed");
    return new Lane(this.#m, this.#program, this, this.#archive, Math.min(threads, this.threads));
  }
  /** Gives the memory back; lanes made before go on. */
  free() {
    if (this.#program === 0) return;
    this.#m.module._lathe_program_free(this.#program);
    this.#program = 0;
    this.#archive.leave();
  }
}

class Lane {
  #m;
  #lane;
  #program;
  #archive;
  #rooms = [];
  constructor(memory, program, owner, archive, threads) {
    this.#m = memory;
    this.#program = owner;
    memory.check(memory.module._lathe_lane_new(program, threads, memory.scratch));
    this.#archive = archive;
    archive.take();
    this.#lane = memory.view().getUint32(memory.scratch, true);
  }
  /**
   * Runs once. inputs: a typed array for each, or {data, shape} where the program leaves dims open; a list in the program's order, an object
   * by name, or (of one input) the array itself. Gives {name: {dtype, shape, data}}, copies of its own.
   */
  run(inputs, { limitSeconds = 0 } = {}) {
    const ports = this.#program.inputs, m = this.#m;
    if (this.#lane === 0) throw new LatheError("value", "this lane was freed");
    const list = this.#listed(inputs, ports);
    const block = m.room(16 * list.length + 8 * 64 * list.length + 32, 16);
    try {
      list.forEach((given, i) => this.#place(given, ports[i], i, block.at + 16 * i, block.at + 16 * list.length + 512 * i));
      const options = block.at + (16 + 512) * list.length, v = m.view();
      v.setUint32(options, 24, true);
      v.setFloat64(options + 8, limitSeconds, true);
      v.setUint32(options + 16, 0, true);
      v.setUint32(options + 20, 0, true);
      m.check(m.module._lathe_lane_run_with(this.#lane, block.at, list.length, options));
    } finally {
      m.module._free(block.block);
    }
    const out = {};
    this.#program.outputs.forEach((port, i) => {
      m.check(m.module._lathe_lane_output(this.#lane, i, m.scratch));
      const t = m.tensor(m.scratch), count = t.shape.reduce((a, b) => a * b, 1);
      if (t.array === null) throw new LatheError("type", `output '${port.name}' has elements that a page cannot read`);
      out[port.name] = { dtype: t.dtype, shape: t.shape, data: new t.array(m.buffer(), t.data, count).slice() };
    });
    return out;
  }
  #listed(inputs, ports) {
    let list;
    if (Array.isArray(inputs)) list = inputs;
    else if (ArrayBuffer.isView(inputs) || (ArrayBuffer.isView(inputs?.data) && inputs.shape !== undefined)) list = [inputs];
    else {
      for (const name of Object.keys(inputs ?? {})) {
        if (!ports.some((p) => p.name === name))
          throw new LatheError("value", `there is no input '${name}'; the inputs are ${ports.map((p) => p.name).join(", ")}`);
      }
      list = ports.map((p) => inputs?.[p.name]);
    }
    if (list.length !== ports.length || list.some((x) => x === undefined))
      throw new LatheError("value", `${list.filter((x) => x !== undefined).length} inputs given, expected ${ports.length}: ${ports.map((p) => p.name).join(", ")}`);
    return list;
  }
  #place(given, port, i, tensor, dims) {
    const m = this.#m, data = ArrayBuffer.isView(given) ? given : given.data;
    const [number, [dtype, array]] = [...TYPES].find(([, [name]]) => name === port.dtype) ?? [0, ["", null]];
    if (array === null || !(data instanceof array))
      throw new LatheError("type", `input '${port.name}' is ${port.dtype}: expected a ${array?.name ?? "type that pages have not"}, got ${data?.constructor?.name}`);
    let shape = given.shape;
    if (shape === undefined) {
      shape = port.shape;
      if (shape.filter((d) => d < 0).length === 1)  // the one open dim is what the rest leaves
        shape = shape.map((d) => (d < 0 ? data.length / port.shape.filter((e) => e >= 0).reduce((a, b) => a * b, 1) : d));
    }
    const count = shape.reduce((a, b) => a * b, 1);
    if (shape.some((d) => !Number.isInteger(d) || d < 0) || count !== data.length || shape.length > 64)
      throw new LatheError("shape", `input '${port.name}' of ${dtype} has ${data.length} elements, which do not make ${port.shape.map((d) => (d < 0 ? "?" : d)).join("x")}; give {data, shape}`);
    let room = this.#rooms[i];
    if (room === undefined || room.bytes < data.byteLength) {
      if (room !== undefined) m.module._free(room.block);
      room = this.#rooms[i] = m.room(data.byteLength);
    }
    new Uint8Array(m.buffer(), room.at, data.byteLength).set(new Uint8Array(data.buffer, data.byteOffset, data.byteLength));
    const v = m.view();
    shape.forEach((d, k) => v.setBigInt64(dims + 8 * k, BigInt(d), true));
    v.setInt32(tensor, number, true);
    v.setInt32(tensor + 4, shape.length, true);
    v.setUint32(tensor + 8, dims, true);
    v.setUint32(tensor + 12, room.at, true);
  }
  /** What a lane of a program with states has kept: positions, or runs since the last reset. */
  get positions() {
    return Number(this.#m.module._lathe_lane_positions(this.#lane));
  }
  reset() {
    this.#m.check(this.#m.module._lathe_lane_reset(this.#lane));
  }
  /** Forgets the last n positions, or all but the last n. */
  rewind(n) {
    this.#m.check(this.#m.module._lathe_lane_rewind(this.#lane, BigInt(n)));
  }
  keepLast(n) {
    this.#m.check(this.#m.module._lathe_lane_keep_last(this.#lane, BigInt(n)));
  }
  free() {
    if (this.#lane === 0) return;
    this.#m.module._lathe_lane_free(this.#lane);
    this.#lane = 0;
    this.#archive.leave();
    for (const room of this.#rooms) this.#m.module._free(room.block);
    this.#rooms = [];
  }
}
