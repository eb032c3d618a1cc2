"""The web application: pages, commands, security."""
