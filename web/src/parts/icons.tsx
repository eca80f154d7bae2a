import type { ReactNode } from "react";

/** Marks of the screens, drawn with the pennant's stroke on a grid of 24. */
function mark(paths: ReactNode) {
  return function Icon() {
    return (
      <svg
        width="21"
        height="21"
        viewBox="0 0 24 24"
        fill="none"
        stroke="currentColor"
        strokeWidth="1.5"
        strokeLinecap="round"
        strokeLinejoin="round"
        aria-hidden="true"
      >
        {paths}
      </svg>
    );
  };
}

// Three lines of water, one with a crest.
export const TideIcon = mark(
  <path d="M3 7h5c2 0 2-3 4-3s2 3 4 3h5M3 13h18M3 19h6c2 0 2 2.5 4 2.5s2-2.5 4-2.5h4" />,
);
// Two pennants on one pole's foot.
export const IncidentsIcon = mark(<path d="M5 21V4l6 2.5L5 9M13 21V9l6 2.5-6 2.5M3 21h14" />);
// A line that leaves its band.
export const BenchIcon = mark(
  <>
    <path d="M3 9h18M3 16h18" strokeDasharray="2 3" />
    <path d="M3 13l4-1 3 2 3-10 3 9 5-1" />
  </>,
);
// A pennant and a tick.
export const ReviewIcon = mark(<path d="M6 21V3l8 3.5L6 10M12 17l2.5 2.5L20 13" />);
// An open book.
export const LogbookIcon = mark(
  <path d="M12 6c-2-2-5-2-8-2v14c3 0 6 0 8 2 2-2 5-2 8-2V4c-3 0-6 0-8 2zM12 6v14" />,
);
// An interval with its middle.
export const CardsIcon = mark(
  <>
    <path d="M3 20h18M3 8h10M3 5v6M13 5v6M9 15h11M9 12v6M20 12v6" />
    <path d="M8 6.5v3M15 13.5v3" />
  </>,
);
// A tower with its light.
export const LookoutsIcon = mark(<path d="M8 21l2-13h4l2 13M6 21h12M9 8V5h6v3M12 5V3M3 6l3 .5M21 6l-3 .5" />);
// A sheet with three lines, one of them marked.
export const PlansIcon = mark(<path d="M6 3h9l4 4v14H6zM15 3v4h4M9 11h7M9 15h4M15 14l1.5 1.5L19 13" />);
// A box that takes something in.
export const IntakeIcon = mark(<path d="M4 13v7h16v-7M12 3v11M8 10.5l4 4 4-4" />);
// Two slides.
export const SettingsIcon = mark(<path d="M4 8h9M17 8h3M4 16h3M11 16h9M13 5.5v5h4v-5zM7 13.5v5h4v-5z" />);
// Half of it dark.
export const DarkIcon = mark(
  <>
    <circle cx="12" cy="12" r="8" />
    <path d="M12 4v16M15 5v14M18 7.5v9" />
  </>,
);
// Panes on a frame.
export const BoardsIcon = mark(<path d="M4 4h16v16H4zM4 13h16M13 4v9" />);
