"""The Inspect stage."""
