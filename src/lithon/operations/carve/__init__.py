"""Bodies are cut: the operations of this station."""
