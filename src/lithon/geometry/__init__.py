"""Curves, surfaces, where they meet, and exact predicates. No topology here."""
