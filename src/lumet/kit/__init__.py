"""The code that all tables of the application share, in packages that import only from
those below them: ARCHITECTURE.md, beside this file, is the map."""
