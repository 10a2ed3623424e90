"""Reading and writing every file format. Imports `ovek.model` only."""
