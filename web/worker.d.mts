import type { Inputs, Kind, OpenOptions, Outputs, Port, RunOptions } from "./lathe.mjs";

export interface RemoteProgram {
  readonly inputs: Port[];
  readonly outputs: Port[];
  metadata(key: string): Promise<string | null>;
  /** move: the inputs' memory goes to the worker and is gone here. */
  run(inputs: Inputs, options?: RunOptions & { move?: boolean }): Promise<Outputs>;
  reset(): Promise<void>;
  free(): Promise<void>;
}
export interface RemoteLathe {
  readonly kind: Kind;
  readonly why: string;
  readonly threads: number;
  readonly version: string;
  load(bytes: ArrayBuffer | ArrayBufferView, options?: { threads?: number }): Promise<RemoteProgram>;
  /** Ends the worker and what it is at. */
  close(): void;
}
export function openInWorker(options?: OpenOptions): Promise<RemoteLathe>;
