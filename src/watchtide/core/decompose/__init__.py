"""Trend, seasons and remainder of an evenly spaced series."""

from watchtide.core.decompose.parts import (
    Decomposition,
    SeasonsDecomposition,
    bisquare,
    choose_form,
    classical,
    loess,
    loess_seasons,
)

__all__ = [
    "Decomposition",
    "SeasonsDecomposition",
    "bisquare",
    "choose_form",
    "classical",
    "loess",
    "loess_seasons",
]
