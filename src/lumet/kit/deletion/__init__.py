"""What a deletion takes with it, and what prevents it."""
