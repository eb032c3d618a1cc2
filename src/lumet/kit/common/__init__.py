"""Shared by every other package: settings, exceptions, languages and time zones,
parsing, formatting, keys in addresses."""
