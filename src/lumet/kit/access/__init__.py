"""Access control: roles, the reach of a user, and the guard on every statement."""
