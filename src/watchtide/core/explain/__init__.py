"""What stands behind findings: contributors, what else moved, odd stretches, diagnoses, and what belongs together."""
