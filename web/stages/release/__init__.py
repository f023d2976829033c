"""The Release stage: files for making the part."""
