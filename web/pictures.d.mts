export interface Box {
  x: number;
  y: number;
  width: number;
  height: number;
  score: number;
  label: number;
}
export function pixelsToInput(
  image: { width: number; height: number; data: ArrayLike<number> },
  how?: { mean?: string | null; scale?: string | null; channels?: string | null },
): Float32Array;
export function boxesOfCells(
  map: { shape: number[]; data: ArrayLike<number> }, width: number, height: number,
  options?: { leastScore?: number; mostOverlap?: number },
): Box[];
export function overlap(a: Box, b: Box): number;
export function suppressed(boxes: Box[], most: number): Box[];
