"""The window. Everything that knows Qt or VTK is in here."""
