"""Removing features so that the neighbours close up."""
