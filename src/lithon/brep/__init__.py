"""Boundary representation: topology as immutable values, its triangles, measures and validity."""
