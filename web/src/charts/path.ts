type Column = readonly (number | null | undefined)[];
type Place = (value: number) => number;

const n = (v: number) => v.toFixed(1);

/** The `d` of a line through values, broken where one is missing, or where `isGap` says so of the step to a place. */
export function pathOf(
  values: Column,
  x: Place,
  y: Place,
  isGap: (i: number) => boolean = () => false,
): string {
  let pen = "M";
  let path = "";
  values.forEach((v, i) => {
    if (v === null || v === undefined) {
      pen = "M";
      return;
    }
    path += `${isGap(i) ? "M" : pen}${n(x(i))} ${n(y(v))}`;
    pen = "L";
  });
  return path;
}

/** The `d` of what lies between two edges, left out where one of them is missing. */
export function washOf(lower: Column, upper: Column, x: Place, y: Place): string {
  let path = "";
  for (let i = 1; i < upper.length; i++) {
    const corners = [upper[i - 1], upper[i], lower[i], lower[i - 1]];
    if (corners.some((v) => v === null || v === undefined)) continue;
    const [a, b] = [x(i - 1), x(i)];
    const places = [a, b, b, a];
    path += `M${corners.map((v, c) => `${n(places[c] ?? 0)} ${n(y(v ?? 0))}`).join("L")}Z`;
  }
  return path;
}
