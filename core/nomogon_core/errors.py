"""One base for everything that the core refuses, each kind also a builtin exception.

A message says which thing, what was wanted, what came, and what to do; it is shown to the user as it is.
"""


class CoreError(Exception):
    """Base of all refusals of the core."""


class InputError(CoreError, ValueError):
    """A value given from outside cannot be used."""


class PictureError(InputError):
    """A picture cannot be taken in."""


class CalibrationError(InputError):
    """Known lengths do not give a calibration."""


class TraceError(InputError):
    """No usable outline can be had from a picture with these settings."""


class SketchError(InputError):
    """A sketch cannot be changed as asked."""


class NotNeededError(SketchError):
    """A constraint that already follows from others."""


class OperationError(InputError):
    """An operation of the Build sheet cannot be carried out; the solid before it stands."""


class ArchiveError(InputError):
    """A job archive cannot be read."""
