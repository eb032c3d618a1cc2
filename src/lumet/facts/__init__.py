"""Facts of the catalogue, as frozen dataclasses."""
