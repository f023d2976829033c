"""Benchmarks: each prints ratios or times against a named reference in the same run."""
