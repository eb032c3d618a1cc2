"""Deletion: dependent records that are deleted too, or that prevent it."""
