"""Sharing faces between bodies, so that their meshes match."""
