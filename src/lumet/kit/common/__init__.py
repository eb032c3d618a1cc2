"""What every other package may use: settings, exceptions, languages and time zones, parsing, formatting, keys in addresses."""
