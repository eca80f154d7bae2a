"""Scorecards: counted, compared, a level chosen on them, published and frozen, sent out."""
