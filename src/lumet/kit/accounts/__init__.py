"""Accounts: users and their roles, signing in, and the store that keeps them."""
