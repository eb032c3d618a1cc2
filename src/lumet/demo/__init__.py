"""The demo scenario: the Skerry Lights Service."""
