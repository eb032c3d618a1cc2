"""Generation: from decisions to the files of an application."""
