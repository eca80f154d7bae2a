"""A stream judged as if live, and on from where it stands."""
