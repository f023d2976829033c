"""The Django project: settings, addresses, the test runner."""
