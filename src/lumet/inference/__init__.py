"""Inference: from facts and evidence to decisions, each with its reason."""
