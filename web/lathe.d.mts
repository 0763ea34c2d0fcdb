/** Kinds of builds: one thread without vectors, one thread with 128-bit vectors, several threads with them. */
export type Kind = "plain" | "simd" | "threads";
export type DType = "f32" | "f64" | "f16" | "bf16" | "i8" | "i16" | "i32" | "i64" | "u8" | "u16" | "u32" | "u64" | "bool";
/** f16 and bf16 are bits in a Uint16Array, bool a Uint8Array of 0 and 1. */
export type Elements =
  | Float32Array | Float64Array | Uint16Array | Int8Array | Int16Array | Int32Array | BigInt64Array | Uint8Array | Uint32Array | BigUint64Array;

export interface Port {
  name: string;
  dtype: DType;
  /** An open dim is -1. */
  shape: number[];
}
export interface Tensor {
  dtype: DType;
  shape: number[];
  data: Elements;
}
export type Given = Elements | { data: Elements; shape: number[] };
/** A list in the program's order, an object by name, or the one input itself. */
export type Inputs = Given | Given[] | { [name: string]: Given };
export type Outputs = { [name: string]: Tensor };

export interface OpenOptions {
  /** Unless given, the best that this browser can run. */
  kind?: Kind;
  /** The most that lanes may have; unless given, the machine's cores. */
  threads?: number;
  /** Where the package's files are. */
  base?: string | URL;
}
export interface RunOptions {
  /** A run that takes longer ends with a LatheError of kind "cancelled". 0: no limit. */
  limitSeconds?: number;
}

export class LatheError extends Error {
  readonly kind: "format" | "unsupported" | "shape" | "type" | "value" | "resource" | "cancelled" | "internal";
}

export interface Lane {
  run(inputs: Inputs, options?: RunOptions): Outputs;
  readonly positions: number;
  reset(): void;
  rewind(n: number): void;
  keepLast(n: number): void;
  free(): void;
}
export interface Program {
  readonly inputs: Port[];
  readonly outputs: Port[];
  readonly threads: number;
  metadata(key: string): string | null;
  lane(options?: { threads?: number }): Lane;
  free(): void;
}
export interface Lathe {
  readonly kind: Kind;
  /** Why no better build runs here, or "". */
  readonly why: string;
  readonly threads: number;
  readonly version: string;
  /** Memory that the module has taken; it never gets smaller. */
  readonly memoryBytes: number;
  load(bytes: ArrayBuffer | ArrayBufferView, options?: { threads?: number }): Program;
}

/** Which build this browser can run, and what is missing for a better one. Throws LatheError where none runs. */
export function bestKind(): { kind: Kind; why: string };
export function openLathe(options?: OpenOptions): Promise<Lathe>;
