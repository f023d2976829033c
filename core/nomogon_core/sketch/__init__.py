"""Exact plane geometry: entities, constraints and dimensions, the solver, diagnosis, regions.

Words: a *point* has two coordinates; a *curve* is a line, arc, circle or spline that refers to points; a
*constraint* ties them; a *dimension* is a constraint with a value; *degrees of freedom* are what can still move.
"""
