"""Sizes, settings and the mesh: the operations of this station."""
