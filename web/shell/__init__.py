"""What stands around the stages: frame, register, people, history, guide; nothing below imports it."""
