"""The Reference stage: the picture, known lengths, tracing."""
