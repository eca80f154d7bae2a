"""Runs a plan over many streams: the stages, what they keep, and how they fan out."""
