"""Many streams: fan-out, and what they do for one another."""
