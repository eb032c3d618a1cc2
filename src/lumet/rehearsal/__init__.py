"""The rehearsal: a generated application used as its users do, each page compared with
what the database holds."""
