"""Decisions: their vocabulary, their files, and yours over the inferred ones."""
