"""Cutting bodies apart, and the reference planes to cut at."""
