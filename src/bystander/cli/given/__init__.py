"""What is given on the command line: options that commands share, and which of them go together."""
