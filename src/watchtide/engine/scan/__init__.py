"""One plan on one stream: judged, flagged, grouped, and what it says."""
