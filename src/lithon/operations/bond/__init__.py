"""What touches is shared: the operations of this station."""
