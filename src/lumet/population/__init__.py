"""Made-up rows for the empty tables of a development database: rows that keep every
constraint, of each field's kind, children after their parents."""
