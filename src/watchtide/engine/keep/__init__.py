"""Stages and models kept in files."""
