"""Whole jobs, from the file to what leaves the house: played without a window, with every number of the result
checked."""
