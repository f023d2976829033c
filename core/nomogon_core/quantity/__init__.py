"""Numbers with a reason: units, reading what people type, writing what people read, uncertainty."""
