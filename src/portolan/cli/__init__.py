"""The command line: files, clock, terminal and exit status; one file a command."""
