"""How far two people agree on the same things."""

from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True)
class Agreement:
    """n things judged twice, on how many both said the same, and Cohen's kappa (None where it has no value)."""

    n: int
    same: int
    kappa: float | None


def agreement(one: Sequence[str], other: Sequence[str]) -> Agreement:
    """Cohen's kappa of paired verdicts: (p - q) / (1 - q), with p the share that agree and q what chance alone makes of
    each person's own shares. None without pairs, or where both always say one and the same thing.

    Cohen (1960). Raises ValueError for sequences of different length.
    """
    if len(one) != len(other):
        raise ValueError(f"verdicts come in pairs, got {len(one)} and {len(other)}")
    n = len(one)
    same = sum(a == b for a, b in zip(one, other, strict=True))
    if n == 0:
        return Agreement(0, 0, None)
    chance = sum(one.count(v) * other.count(v) for v in set(one) | set(other)) / n**2
    return Agreement(n, same, (same / n - chance) / (1 - chance) if chance < 1 else None)
