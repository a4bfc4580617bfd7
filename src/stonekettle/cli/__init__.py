"""The command line: the same engine and core without the web application."""
