"""SQL expressions: parsed and checked against the facts."""
