"""Hostile input: a mutator with seeds, every parser with samples, servers and archives that lie."""
