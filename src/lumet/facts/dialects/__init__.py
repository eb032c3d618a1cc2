"""Database servers: their catalogues and their differences."""
