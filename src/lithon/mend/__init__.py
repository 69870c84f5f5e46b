"""Mend: what is wrong with a solid is put right, and each repair says what it did."""
