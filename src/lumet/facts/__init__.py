"""Facts: what the catalogue says, as frozen dataclasses."""
