"""The database: its engine, the types of columns, its errors, pagination by keys."""
