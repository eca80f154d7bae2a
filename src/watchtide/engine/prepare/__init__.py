"""From raw samples to what a baseline takes, and every `auto` of a plan filled in."""
