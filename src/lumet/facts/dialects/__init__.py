"""What each database server does in a way of its own, and how its catalogue is read."""
