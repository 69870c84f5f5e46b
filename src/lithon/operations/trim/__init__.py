"""Faces go, move and are kept: the operations of this station."""
