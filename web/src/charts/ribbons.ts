/** Ribbons as the server sends them: base64 of one signed byte a bin. */

/** Of a bin that nothing was judged in. */
export const QUIET = -128;

export function binsOf(ribbon: string): Int8Array {
  return new Int8Array(Uint8Array.from(atob(ribbon), (c) => c.charCodeAt(0)).buffer);
}

interface Drawn {
  ribbon: string;
  ribbon_from: number | null;
  ribbon_to: number | null;
}

/** The bin at a moment: when it begins, and its score with its sign, null where it was not judged; nothing outside. */
export function scoreAt(row: Drawn, moment: number): { start: number; score: number | null } | null {
  const { ribbon_from: from, ribbon_to: to } = row;
  if (from === null || to === null || moment < from || moment > to) return null;
  const bins = binsOf(row.ribbon);
  if (!bins.length) return null;
  const at = Math.min(bins.length - 1, Math.floor(((moment - from) / (to - from || 1)) * bins.length));
  const value = bins[at] ?? QUIET;
  return { start: from + (at / bins.length) * (to - from), score: value === QUIET ? null : value / 10 };
}
