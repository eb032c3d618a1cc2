"""Evidence from sampled rows, read within limits."""
