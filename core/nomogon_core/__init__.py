"""The computation of Nomogon: bytes and values in, values out; no Django, no HTTP, no files.

Lengths are millimetres and angles radians; pixels have their centre at integers, x to the right and
y down; millimetre coordinates have y up.
"""
