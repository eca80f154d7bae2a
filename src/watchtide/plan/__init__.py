"""The plan: how to scan, as a versioned text file."""

from watchtide.plan.model import Plan
from watchtide.plan.text import PlanError, dump, load

__all__ = ["Plan", "PlanError", "dump", "load"]
