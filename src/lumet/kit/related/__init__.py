"""Records that belong to a record: related records, one-to-one parts, breadcrumbs."""
