"""Evidence: what the rows say, read within bounds."""
