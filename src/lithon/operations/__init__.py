"""Operations: one file each in its station's folder, one row each in the table, and everything else from the rows."""
