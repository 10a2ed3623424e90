"""Simulated devices: SSH servers on loopback that speak the sample vendors' languages.

They share no code with what reads them, so that one tests the other: nothing here knows a sheet or
a template. Imports `ovek.model` and `ovek.files` only.
"""
