"""Uploaded files and their thumbnails."""
