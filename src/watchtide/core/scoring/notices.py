"""What became of notices, each of which stands for several findings."""

from collections.abc import Sequence
from typing import Any

from watchtide.core.scoring import spans
from watchtide.core.scoring.intervals import as_list, wilson
from watchtide.core.scoring.outcomes import Setting, judge
from watchtide.core.scoring.rows import Coverage, Finding, Label

TRUE, FALSE, UNSURE, UNJUDGED = "true", "false", "unsure", "unjudged"


def states(
    groups: Sequence[Sequence[Finding]], labels: Sequence[Label], setting: Setting = Setting()
) -> list[str]:
    """true | false | unsure | unjudged of each group, by what becomes of its findings (`outcomes.judge`): one that is true makes
    the group true, else one that is unsure, else one that is false.

    Without any label nobody has looked, and nothing is false.
    """
    if not labels:
        return [UNJUDGED] * len(groups)
    coverage = Coverage(labels)
    has_reviews = any(label.verdict == "reviewed" for label in labels)
    out = []
    for group in groups:
        found = {judge(f, coverage[f.series], setting, has_reviews).state for f in group}
        out.append(next((s for s in (TRUE, UNSURE, FALSE) if s in found), UNJUDGED))
    return out


def counts(found: Sequence[str]) -> dict[str, Any]:
    """How many groups are in which state, and precision with its interval."""
    true, false = found.count(TRUE), found.count(FALSE)
    return {
        "real": true,
        "not_real": false,
        "left_out": found.count(UNSURE),
        "open": found.count(UNJUDGED),
        "precision": spans.ratio(true, true + false),
        "precision_ci": as_list(wilson(true, true + false)),
    }
