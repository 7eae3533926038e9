"""The version, which the package and its pages name."""

__version__ = "0.1.0"
