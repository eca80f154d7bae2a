/** What the chart knows of the samples around an item. */
export interface Around {
  /** The moment so many samples on. */
  moved: (at: number, by: number) => number;
  /** The end of the first finding that begins after a moment. */
  nextEnd: (after: number) => number | null;
}

export interface Edges {
  start: number;
  end: number;
  /** Where the verdict ends and the rest stays to be judged; null for none. */
  cut: number | null;
}
