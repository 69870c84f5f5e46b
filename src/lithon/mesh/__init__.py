"""Meshing: sizes, edges, faces, volumes, quality."""
