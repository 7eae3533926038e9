"""Packages that take long to import, loaded at their first use: a command that needs none of them starts quickly."""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

__all__ = [
    "Image", "ImageCms", "ImageDraw", "ImageEnhance", "ImageFilter", "ImageFont", "ImageOps", "aiohttp", "asyncio",
    "np", "shapely", "special", "statistics",
]  # fmt: skip


class _Lazy:
    """Stands for a module until something of it is needed."""

    def __init__(self, name: str) -> None:
        self.__dict__["_name"] = name

    def __getattr__(self, name: str) -> Any:
        return getattr(import_module(self._name), name)

    def __setattr__(self, name: str, value: Any) -> None:
        setattr(import_module(self._name), name, value)


if TYPE_CHECKING:
    import asyncio
    import statistics

    import aiohttp
    import numpy as np
    import shapely
    from PIL import Image, ImageCms, ImageDraw, ImageEnhance, ImageFilter, ImageFont, ImageOps
    from scipy import special
else:
    aiohttp, asyncio, np, special = _Lazy("aiohttp"), _Lazy("asyncio"), _Lazy("numpy"), _Lazy("scipy.special")
    shapely, statistics = _Lazy("shapely"), _Lazy("statistics")
    Image, ImageCms, ImageDraw = _Lazy("PIL.Image"), _Lazy("PIL.ImageCms"), _Lazy("PIL.ImageDraw")
    ImageEnhance, ImageFilter = _Lazy("PIL.ImageEnhance"), _Lazy("PIL.ImageFilter")
    ImageFont, ImageOps = _Lazy("PIL.ImageFont"), _Lazy("PIL.ImageOps")
