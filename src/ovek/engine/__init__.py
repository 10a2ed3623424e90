"""The meaning, in pure functions: no I/O, no clock, no interface code. Imports only the model."""
