"""Statements that read: columns with titles, searches, filters, lookups,
hierarchies."""
