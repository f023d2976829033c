"""Files in the open formats: SVG and DXF at 1:1, STEP, STL, 3MF, and the job archive."""
