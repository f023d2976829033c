"""Values kept for a while in this process, the least used let go of first."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Hashable, Iterable
from typing import Any


class Kept:
    """At most so many values by key, for all threads."""

    def __init__(self, most: int) -> None:
        self.most = most
        self._lock = threading.Lock()
        self._values: OrderedDict[Hashable, Any] = OrderedDict()

    def get(self, key: Hashable) -> Any:
        """The value, or None."""
        with self._lock:
            if key in self._values:
                self._values.move_to_end(key)
            return self._values.get(key)

    def get_all(self, keys: Iterable[Hashable]) -> dict[Hashable, Any]:
        """The values of those of the keys that have one."""
        with self._lock:
            found = {key: value for key in keys if (value := self._values.get(key)) is not None}
            for key in found:
                self._values.move_to_end(key)
        return found

    def put_all(self, values: dict[Hashable, Any]) -> dict[Hashable, Any]:
        """Keep many new values, and answer with them."""
        with self._lock:
            self._values.update(values)
            while len(self._values) > self.most:
                self._values.popitem(last=False)
        return values

    def put(self, key: Hashable, value: Any) -> Any:
        """Keep a value, and answer with it."""
        with self._lock:
            self._values[key] = value
            self._values.move_to_end(key)
            while len(self._values) > self.most:
                self._values.popitem(last=False)
        return value

    def drop(self, key: Hashable) -> None:
        """Keep it no longer."""
        with self._lock:
            self._values.pop(key, None)
