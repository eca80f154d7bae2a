"""Incidents: findings and entries of several streams that belong together, proposed or made by hand."""
