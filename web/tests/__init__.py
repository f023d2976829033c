"""Tests of the web application: commands, permissions, bad uploads, and the real pages in a browser."""
