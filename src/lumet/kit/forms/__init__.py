"""Forms and their fields: parsing, validation, and what a control shows."""
