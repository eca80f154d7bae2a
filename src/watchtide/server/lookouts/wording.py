"""Figures as mails and notices write them."""


def figure(value: float) -> str:
    """Four digits, or all before the point where there are more."""
    return f"{value:,.0f}" if abs(value) >= 1_000 else f"{value:.4g}"


def signed(value: float) -> str:
    return f"{'+' if value >= 0 else '−'}{figure(abs(value))}"
