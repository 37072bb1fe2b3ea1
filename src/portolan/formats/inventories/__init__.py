"""Listings of folders as programs print them, read as they come; one file a program, behind one Protocol."""
