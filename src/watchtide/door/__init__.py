"""From Python: the functions that the command and the server run, over tables in memory or in files."""
