"""One engine for imprints, unions, subtractions, intersections: everything cut along everything."""
