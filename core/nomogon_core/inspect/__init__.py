"""Checks of the part before it is made: what will go wrong, where, by how much, and what to do about it."""
