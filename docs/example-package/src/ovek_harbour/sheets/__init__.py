"""Sheets: each `NAME.toml` here is found by its name."""
