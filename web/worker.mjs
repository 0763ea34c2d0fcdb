// The same as lathe.mjs from a page that must stay alive: everything is done by a worker, and answers come as promises.
// Also the worker's own script: a page that starts it gets calls answered.
import { LatheError, openLathe } from "./lathe.mjs";

/** As openLathe; load() and run() give promises. `run` takes memory of its inputs over when {move: true}. */
export async function openInWorker(options = {}) {
  const worker = new Worker(new URL("./worker.mjs", import.meta.url), { type: "module", name: "lathe" });
  const waiting = new Map();
  let last = 0;
  const fail = (error) => {
    for (const { reject } of waiting.values()) reject(error);
    waiting.clear();
  };
  worker.onmessage = ({ data: { id, value, error } }) => {
    const call = waiting.get(id);
    waiting.delete(id);
    if (error !== undefined) call.reject(new LatheError(error.kind, error.message));
    else call.resolve(value);
  };
  worker.onerror = (e) => fail(new LatheError("internal", `the worker stopped: ${e.message ?? "its script cannot be loaded"}`));
  const ask = (what, given, move = []) =>
    new Promise((resolve, reject) => {
      waiting.set(++last, { resolve, reject });
      worker.postMessage({ id: last, what, given }, move);
    });
  const base = new URL(options.base ?? "./", import.meta.url).href;
  const about = await ask("open", { ...options, base }).catch((e) => {
    worker.terminate();
    throw e;
  });
  const buffers = (inputs) => {
    const list = ArrayBuffer.isView(inputs) ? [inputs] : Object.values(inputs).map((x) => (ArrayBuffer.isView(x) ? x : x?.data));
    return [...new Set(list.filter(ArrayBuffer.isView).map((x) => x.buffer))];
  };
  return {
    ...about,
    async load(bytes, how = {}) {
      const program = await ask("load", { bytes, how });
      return {
        inputs: program.inputs,
        outputs: program.outputs,
        metadata: (key) => ask("metadata", { program: program.id, key }),
        /** Runs the program's own lane in the worker. */
        run: (inputs, { move = false, ...how } = {}) => ask("run", { program: program.id, inputs, how }, move ? buffers(inputs) : []),
        reset: () => ask("reset", { program: program.id }),
        free: () => ask("free", { program: program.id }),
      };
    },
    /** Ends the worker and what it is at. */
    close() {
      worker.terminate();
      fail(new LatheError("cancelled", "the worker was closed"));
    },
  };
}

if (typeof WorkerGlobalScope !== "undefined" && globalThis instanceof WorkerGlobalScope && globalThis.name === "lathe") {
  let lathe;
  const programs = new Map();
  let last = 0;
  const one = (id) => {
    if (!programs.has(id)) throw new LatheError("value", "this program was freed");
    return programs.get(id);
  };
  const answers = {
    async open(options) {
      lathe = await openLathe(options);
      return { kind: lathe.kind, why: lathe.why, threads: lathe.threads, version: lathe.version };
    },
    load({ bytes, how }) {
      const program = lathe.load(bytes, how);
      programs.set(++last, { program, lane: program.lane() });
      return { id: last, inputs: program.inputs, outputs: program.outputs };
    },
    metadata: ({ program, key }) => one(program).program.metadata(key),
    run: ({ program, inputs, how }) => one(program).lane.run(inputs, how),
    reset: ({ program }) => one(program).lane.reset(),
    free({ program }) {
      const { program: p, lane } = one(program);
      programs.delete(program);
      lane.free();
      p.free();
    },
  };
  globalThis.onmessage = async ({ data: { id, what, given } }) => {
    try {
      const value = await answers[what](given);
      const move = what === "run" ? Object.values(value).map((t) => t.data.buffer) : [];
      globalThis.postMessage({ id, value }, move);
    } catch (e) {
      globalThis.postMessage({ id, error: { kind: e.kind ?? "internal", message: e.message ?? String(e) } });
    }
  };
}
