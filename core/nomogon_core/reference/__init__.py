"""From the bytes of a picture to a calibrated plane: decoding, picking edges, known lengths, calibration."""
