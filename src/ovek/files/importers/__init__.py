"""Readers of lists of releases, one module a format; `known` lists them."""
