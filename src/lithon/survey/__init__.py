"""What the solid is like: its features, its sizes, and what stands in the way of a mesh."""
