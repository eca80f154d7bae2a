"""Scans: plans, scans, findings, and scorecards."""
