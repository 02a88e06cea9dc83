/** Cells of the coverage picture -> strips of pixels. Pure but for the canvas it paints on. */

/** Rows of one strip: canvases have a largest height. */
export const STRIP = 4096;

export interface Palette {
  missing: string;
  zero: string;
  negative: string;
  low: string;
  high: string;
}

const TINTS = 6;

function rgb(colour: string): [number, number, number] {
  const hex = colour.replace('#', '');
  return [0, 2, 4].map((at) => Number.parseInt(hex.slice(at, at + 2), 16)) as [number, number, number];
}

function packed([r, g, b]: [number, number, number]): number {
  return (255 << 24) | (b << 16) | (g << 8) | r; // little-endian RGBA
}

/** Colour of every byte a cell can hold, as pixels. */
export function lookup(palette: Palette): Uint32Array {
  const table = new Uint32Array(256);
  const low = rgb(palette.low);
  const high = rgb(palette.high);
  table[0] = packed(rgb(palette.missing));
  table[1] = packed(rgb(palette.zero));
  table[2] = packed(rgb(palette.negative));
  for (let k = 0; k < TINTS; k++) {
    const part = k / (TINTS - 1);
    const mixed = low.map((from, i) => Math.round(from + part * ((high[i] ?? 0) - from)));
    table[3 + k] = packed(mixed as [number, number, number]);
  }
  return table;
}

export function decode(base64: string): Uint8Array {
  const text = atob(base64);
  const bytes = new Uint8Array(text.length);
  for (let i = 0; i < text.length; i++) bytes[i] = text.charCodeAt(i);
  return bytes;
}

/** Pixels of the rows `from` to `to` of the order. */
export function pixels(
  cells: Uint8Array,
  order: number[],
  nPeriods: number,
  from: number,
  to: number,
  table: Uint32Array,
): Uint32Array<ArrayBuffer> {
  const out = new Uint32Array((to - from) * nPeriods);
  let at = 0;
  for (let row = from; row < to; row++) {
    const start = (order[row] ?? 0) * nPeriods;
    for (let t = 0; t < nPeriods; t++) out[at++] = table[cells[start + t] ?? 0] ?? 0;
  }
  return out;
}

export function strips(
  cells: Uint8Array,
  order: number[],
  nPeriods: number,
  table: Uint32Array,
): HTMLCanvasElement[] {
  const made: HTMLCanvasElement[] = [];
  for (let from = 0; from < order.length; from += STRIP) {
    const to = Math.min(from + STRIP, order.length);
    const canvas = document.createElement('canvas');
    canvas.width = nPeriods;
    canvas.height = to - from;
    const image = new ImageData(
      new Uint8ClampedArray(pixels(cells, order, nPeriods, from, to, table).buffer),
      nPeriods,
    );
    canvas.getContext('2d')?.putImageData(image, 0, 0);
    made.push(canvas);
  }
  return made;
}
