"""From regions to a part: operations, the kernel behind them, stable names, meshes.

Only modules that import :mod:`nomogon_core.solid.kernel` need the kernel; these run in worker processes.
"""
