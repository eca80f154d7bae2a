"""Review in rounds: who judges what next, by hand-picked order or by a fair sample."""
