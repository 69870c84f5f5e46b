"""What is wrong with a solid is put right: the operations of this station."""
