"""The one place that names the version."""

__version__ = "0.1.0"
