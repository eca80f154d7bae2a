"""A plan's own reading and writing, by the names that the rest of the code calls."""

from watchtide.plan.model import Plan
from watchtide.plan.parsing import PlanError

__all__ = ["PlanError", "dump", "from_data", "load"]

load, from_data, dump = Plan.from_yaml, Plan.from_data, Plan.to_yaml
