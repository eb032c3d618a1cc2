"""What a user can see and change: roles, the reach, and the guard on every statement."""
