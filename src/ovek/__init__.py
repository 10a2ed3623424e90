"""Ovek audits the software images on network devices' flash. It reads; people act."""

__version__ = "0.1.0"
