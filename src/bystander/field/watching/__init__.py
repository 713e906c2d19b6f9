"""Looking into running programs from outside: the kernel's clock, another process's memory, its frames."""
