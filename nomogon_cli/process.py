"""Work in a process of its own, for what may crash or hang; nothing heavy is imported here, since that process imports
this module too."""

import importlib
import multiprocessing

from pebble import ProcessExpired, ProcessPool

from nomogon_core.errors import OperationError

TIME_LIMIT_S = 600


def in_own_process(module, function, *arguments):
    """What a function of a module gives.

    Raises:
        OperationError: the process died or ran over its time.
    """
    with ProcessPool(1, context=multiprocessing.get_context("spawn")) as pool:
        try:
            return pool.schedule(_call, args=[module, function, arguments], timeout=TIME_LIMIT_S).result()
        except TimeoutError:
            raise OperationError(f"The part was not built within {TIME_LIMIT_S} s.") from None
        except ProcessExpired:
            raise OperationError("The geometry kernel stopped while building the part.") from None


def _call(module, function, arguments):
    return getattr(importlib.import_module(module), function)(*arguments)
