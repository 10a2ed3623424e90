"""Bringing in state: SSH, SFTP, captures, folders. Imports `ovek.model` and `ovek.files` only."""
