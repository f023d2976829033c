"""Jobs: what is stored, commands with undo, the register, the shared frame."""
