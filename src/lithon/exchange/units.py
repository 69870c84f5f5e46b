"""Units of length for files that name none."""

#: Millimetres in each.
UNITS = {"mm": 1.0, "cm": 10.0, "m": 1000.0, "inch": 25.4, "foot": 304.8, "micron": 1e-3}
