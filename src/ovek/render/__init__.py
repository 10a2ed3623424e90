"""Results out: for a terminal, and as JSON. Imports `ovek.model` only."""
