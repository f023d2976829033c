"""Tests of the core; they need neither Django nor a database: ``python -m unittest discover core/tests``."""
