"""The command line: works on files alone, without server or database."""
