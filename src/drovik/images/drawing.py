"""A stored picture and its layout → the drawn parts: turned, cropped, resized, padded, in plain colours."""

from __future__ import annotations

import io
from collections.abc import Callable, Iterator

from drovik.errors import PictureError, Problem
from drovik.heavy import Image, ImageCms, ImageEnhance, ImageFilter, ImageOps
from drovik.images.decode.jpeg_scale import decoded_between
from drovik.images.layout import Layout
from drovik.project.preps import Prep

_REMEDY = {2: 0, 3: 3, 4: 1, 5: 5, 6: 4, 7: 6, 8: 2}
"""Pillow's transposition (its `Transpose` enum, by number) that turns each of Exif's orientations upright."""


_MOST_GRAY = 65535
"""White in 16 bits."""
_SAVE_IT = "save it with 8 or 16 bits"


_BLANK = (128, 128, 128)
"""Of a picture that shows nothing."""


def draw(picture: Image.Image, layout: Layout, prep: Prep) -> Iterator[Image.Image]:
    """Each part of a picture as the layout has it, in the colours L, RGB or RGBA of sRGB, without metadata.

    :param picture: as stored; a JPEG should not be decoded yet, so that it can be at a smaller scale.
    """
    drawn = _in_place(_resized(picture, layout), layout)
    if layout.canvas != drawn.size:
        drawn = _on_canvas(drawn, layout, prep)
    drawn = Image.new("RGB", drawn.size, _BLANK) if prep.blank else _toned(drawn, prep)
    for part in layout.parts:
        yield drawn if (part.width, part.height) == drawn.size else drawn.crop(part)


def _resized(picture: Image.Image, layout: Layout) -> Image.Image:
    """The crop at its size, still lying as it is stored: turning the small picture is cheaper than the large."""

    lies = layout.orientation >= 5
    size = (layout.resized[1], layout.resized[0]) if lies else layout.resized
    box = layout.stored_crop()
    whole = picture.size
    profile, smaller = picture.info.get("icc_profile"), None
    if picture.format == "JPEG":
        share = min(1.0, max(size[0] / (box[2] - box[0]), size[1] / (box[3] - box[1])))
        least = max(1, round(whole[0] * share)), max(1, round(whole[1] * share))
        smaller = decoded_between(picture, least)
        # Decodes at a half, quarter or eighth, never below what is asked.
        picture.draft(None, least)
    plain = _in_eight_bits(picture) if smaller is None else smaller
    if plain.mode not in ("L", "RGB", "RGBA", "CMYK"):
        plain = plain.convert("RGBA" if _is_see_through(plain) else "L" if plain.mode == "1" else "RGB")
    elif "transparency" in plain.info:
        plain = plain.convert("RGBA")
    across, down = plain.width / whole[0], plain.height / whole[1]
    taken = (box[0] * across, box[1] * down, box[2] * across, box[3] * down)
    if taken != (0, 0, *plain.size) or size != plain.size:
        plain = plain.resize(size, Image.Resampling.LANCZOS, box=taken)
    coloured = _in_srgb(plain, profile)
    return coloured if coloured.mode in ("L", "RGB", "RGBA") else coloured.convert("RGB")


def _in_place(picture: Image.Image, layout: Layout) -> Image.Image:

    if layout.orientation != 1:
        picture = picture.transpose(Image.Transpose(_REMEDY[layout.orientation]))
    return picture if layout.cut[2:] == picture.size and layout.cut[:2] == (0, 0) else picture.crop(layout.cut)


def _on_canvas(picture: Image.Image, layout: Layout, prep: Prep) -> Image.Image:

    mode = picture.mode if picture.mode == "RGBA" else "RGB"
    canvas = Image.new(mode, layout.canvas, prep.margin or "white")
    canvas.paste(picture, layout.at)
    return canvas


def _gray(picture: Image.Image, prep: Prep) -> Image.Image:
    return picture.convert("L")


def _contrast(picture: Image.Image, prep: Prep) -> Image.Image:
    if prep.contrast == "auto":
        return ImageOps.autocontrast(picture, cutoff=1)
    return ImageEnhance.Contrast(picture).enhance(prep.contrast or 1)


def _sharpen(picture: Image.Image, prep: Prep) -> Image.Image:
    return picture.filter(ImageFilter.UnsharpMask(radius=2, percent=round(100 * (prep.sharpen or 0)), threshold=2))


TONES: dict[str, Callable[[Image.Image, Prep], Image.Image]] = {
    "gray": _gray,
    "contrast": _contrast,
    "sharpen": _sharpen,
}
"""The steps that change colours alone, in their order, by the setting that asks for each. A picture that can be seen
through is laid on white before any of them."""


def _toned(picture: Image.Image, prep: Prep) -> Image.Image:
    wanted = [step for name, step in TONES.items() if getattr(prep, name)]
    if wanted and picture.mode == "RGBA":
        picture = Image.alpha_composite(Image.new("RGBA", picture.size, "white"), picture).convert("RGB")
    for step in wanted:
        picture = step(picture, prep)
    return picture


def _is_see_through(picture: Image.Image) -> bool:
    return picture.mode in ("RGBA", "LA", "PA", "La", "RGBa") or "transparency" in picture.info


def _in_eight_bits(picture: Image.Image) -> Image.Image:
    """A gray picture of 16 bits as one of 8; Pillow itself would cut its values off instead of scaling them."""
    if picture.mode == "F":
        raise PictureError(Problem("its gray values are fractions, and nobody says which of them is white", _SAVE_IT))
    if not picture.mode.startswith("I"):
        return picture
    whole = picture.convert("I")
    low, high = (int(str(one)) for one in whole.getextrema())
    if low < 0 or high > _MOST_GRAY:
        what = f"its gray values go from {low} to {high}, and nobody says which of them is white"
        raise PictureError(Problem(what, _SAVE_IT))
    return whole.point(lambda value: value * (1 / 257) + 0.5).convert("L")


def _in_srgb(picture: Image.Image, profile: bytes | None) -> Image.Image:
    """The picture's colours as sRGB where it came with a profile of its own; as they are where that fails."""
    if not profile or picture.mode not in ("RGB", "CMYK", "L"):
        return picture

    try:
        own = ImageCms.ImageCmsProfile(io.BytesIO(profile))
        turned = ImageCms.profileToProfile(picture, own, ImageCms.createProfile("sRGB"), outputMode="RGB")
    except (ImageCms.PyCMSError, OSError, ValueError, TypeError):
        return picture
    return turned if turned is not None else picture
