"""Drovik: pictures and prompts to multimodal models; answers checked, scored and compared."""

__version__ = "0.1.0"
