"""The Solid stage: the Build sheet and the turning view."""
