"""Faces rolled out and parted into triangles, and what is asked of triangles."""
