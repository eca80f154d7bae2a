/** Ribbons as the server sends them: one signed byte a bin, as base64 or as it is. */

/** Of a bin that nothing was judged in. */
export const QUIET = -128;

export function binsOf(ribbon: string): Int8Array {
  return new Int8Array(Uint8Array.from(atob(ribbon), (c) => c.charCodeAt(0)).buffer);
}

/** The ribbons of an answer: of each its stream's number (4 bytes) and length (2), lowest byte first, and that many bytes. */
export function ribbonsOf(body: ArrayBuffer): Map<number, Int8Array> {
  const view = new DataView(body);
  const found = new Map<number, Int8Array>();
  let at = 0;
  while (at + 6 <= body.byteLength) {
    const length = view.getUint16(at + 4, true);
    found.set(view.getUint32(at, true), new Int8Array(body, at + 6, length));
    at += 6 + length;
  }
  return found;
}

interface Drawn {
  ribbon_from: number | null;
  ribbon_to: number | null;
}

/** The bin at a moment: when it begins, and its score with its sign, null where it was not judged; nothing outside. */
export function scoreAt(
  row: Drawn,
  bins: Int8Array,
  moment: number,
): { start: number; score: number | null } | null {
  const { ribbon_from: from, ribbon_to: to } = row;
  if (from === null || to === null || moment < from || moment > to) return null;
  if (!bins.length) return null;
  const at = Math.min(bins.length - 1, Math.floor(((moment - from) / (to - from || 1)) * bins.length));
  const value = bins[at] ?? QUIET;
  return { start: from + (at / bins.length) * (to - from), score: value === QUIET ? null : value / 10 };
}
