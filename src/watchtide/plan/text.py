"""Plans as YAML or JSON text, with every mistake named by its line."""

from typing import Any

from watchtide.plan.model import Plan
from watchtide.plan.parsing import PlanError

__all__ = ["PlanError", "dump", "from_data", "load"]


def load(text: str) -> Plan:
    """The plan of this YAML or JSON text. Raises PlanError naming line, key and remedy."""
    return Plan.from_yaml(text)


def from_data(data: dict[str, Any]) -> Plan:
    """The plan of plain data. Raises PlanError naming key and remedy."""
    return Plan.from_data(data)


def dump(plan: Plan) -> str:
    """The plan as YAML, all keys written out."""
    return plan.to_yaml()
