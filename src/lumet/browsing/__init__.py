"""Pages as a browser reads them, and what a person could enter. Rehearsals use it, and the
tests of every generated application have a copy."""
