"""The parts of a sample request → the same tree as a template, with slots, and with what repeats repeated."""

from __future__ import annotations

import re
from typing import Any

from drovik.dialects.learn.placeholders import is_mark
from drovik.dialects.learn.trees import Path, common, leaves, names_of, shown, value_at, with_parts
from drovik.dialects.learn.turns import FORMATS, MEDIA_TYPE, Parts
from drovik.dialects.template import escaped


class Template:
    """A request's template: `tree` with slots, and `fixed`, the places that were kept as they are."""

    def __init__(self, parts: Parts) -> None:
        self._parts = parts
        self._replaced: dict[Path, Any] = {}
        self._used: set[Path] = set()
        self._picture = self._first_picture()
        if parts.turns is not None:
            self._put_turns(parts.turns)
        else:
            self._put_flat()
        self._put_plain()
        self._leave_out_other_pictures()
        self._leave_open_what_is_to_be_filled_in()
        self.tree = with_parts(_escaped(parts.tree, self._slots_of_paths()), self._replaced)
        covered = [
            path for path, made in self._replaced.items() if not isinstance(made, str) and path != parts.schema
        ]
        self.fixed = [
            shown(path)
            for path, _ in leaves(parts.tree)
            if path not in self._used and path not in self._replaced and not _under(path, [parts.schema])
            and not _under(path, [parts.turns if parts.turns in covered else None])
        ]  # fmt: skip

    def _slots_of_paths(self) -> set[Path]:
        return set(self._replaced)

    def _first_picture(self) -> Path | None:
        """The picture that the template is made after: one in the turn of the question, if there is one there."""
        turn = self._parts.turn
        here = [path for path in self._parts.pictures if turn is not None and path[: len(turn)] == turn]
        outside = [path for path in self._parts.pictures if not _under(path, [self._parts.turns])]
        return next(iter(here or outside), None)

    # Turns.

    def _put_turns(self, turns: Path) -> None:
        parts = self._parts
        assert parts.turn is not None
        element = self._turn_template(parts.turn)
        made: list[Any] = [{"each turn": element}]
        if "system" in parts.roles and parts.system is not None and _under(parts.system, [turns]):
            number = parts.system[: len(turns) + 1]
            told = with_parts(value_at(parts.tree, number), {parts.system[len(number) :]: "{system}"})
            made.insert(0, {"when system": told})
            self._used.add(parts.system)
        self._replaced[turns] = made
        picture = self._picture
        if picture is not None and not _under(picture, [turns]):
            self._put_pictures(picture, beside=())

    def _turn_template(self, turn: Path) -> Any:
        """One turn as a template, its paths within the turn."""
        parts, size = self._parts, len(turn)
        replaced: dict[Path, Any] = {(parts.role_key,): "{turn.by}"}
        prompt = parts.prompt[size:] if parts.prompt and _under(parts.prompt, [turn]) else None
        picture = self._picture[size:] if self._picture and _under(self._picture, [turn]) else None
        tree = value_at(parts.tree, turn)
        list_at = self._parts_list(tree, prompt, picture)
        if list_at is not None:
            replaced[list_at] = self._parts_template(value_at(tree, list_at), turn, list_at)
        else:
            if prompt is not None:
                replaced[prompt] = "{turn.text?}"
            if picture is not None:
                self._put_picture_unit(tree, turn, picture, [prompt, (parts.role_key,)], replaced)
        return with_parts(_escaped(tree, set(replaced)), replaced)

    @staticmethod
    def _parts_list(tree: Any, prompt: Path | None, picture: Path | None) -> Path | None:
        """The list in which texts and pictures stand side by side, within a turn; None if there is none."""
        if prompt is not None and picture is not None:
            shared = common(prompt, picture)
            return shared if isinstance(value_at(tree, shared), list) else None
        one = prompt if prompt is not None else picture
        if one is None:
            return None
        above = [one[:size] for size in range(len(one)) if isinstance(value_at(tree, one[:size]), list)]
        return above[0] if above else None

    def _parts_template(self, elements: list[Any], turn: Path, at: Path) -> list[Any]:
        """A list of parts: each text and each picture in the shape of the sample's own."""
        each: list[Any] = []
        fixed = []
        for number, element in enumerate(elements):
            path = (*turn, *at, number)
            inside = [one for one in self._parts.pictures if _under(one, [path])]
            texts = [one for one, value in leaves(element, path) if self._could_be_said(one, value)]
            if inside:
                if not any("when part.picture" in one for one in each):
                    each.append({"when part.picture": self._picture_shape(path, inside[0], "part")})
            elif texts:
                said = self._parts.prompt if self._parts.prompt in texts else max(texts, key=self._length)
                if not any("when part.text" in one for one in each):
                    shape = with_parts(_escaped(element, {said[len(path) :]}), {said[len(path) :]: "{part.text}"})
                    each.append({"when part.text": shape})
            else:
                fixed.append(_escaped(element, set()))
        return [{"each part": each}, *fixed]

    def _length(self, path: Path) -> int:
        return len(str(value_at(self._parts.tree, path)))

    def _could_be_said(self, path: Path, value: Any) -> bool:
        return isinstance(value, str) and (path == self._parts.prompt or " " in value.strip())

    # Services without turns.

    def _put_flat(self) -> None:
        parts = self._parts
        picture, prompt = self._picture, parts.prompt
        if prompt is not None and picture is not None:
            shared = common(prompt, picture)
            if isinstance(value_at(parts.tree, shared), list):
                listed = self._parts_template(value_at(parts.tree, shared), (), shared)
                self._replaced[shared] = [{"each turn": listed[:1]}, *listed[1:]]
                self._used |= {path for path in parts.pictures if _under(path, [shared])} | {prompt}
                return
        if prompt is not None:
            self._replaced[prompt] = "{turns.text?}"
        if picture is not None:
            self._put_pictures(picture, beside=tuple(one for one in (prompt, parts.system, parts.model) if one))

    def _put_pictures(self, picture: Path, beside: tuple[Path, ...]) -> None:
        """Pictures that stand apart from the text: a list of them, or a place for one."""
        self._put_picture_unit(self._parts.tree, (), picture, [*beside, *self._parts.settings], self._replaced)

    def _put_picture_unit(
        self, tree: Any, base: Path, picture: Path, beside: list[Path | None], replaced: dict[Path, Any]
    ) -> None:
        """Put the template of a picture that stands apart into `replaced`; paths are within `tree`, at `base`."""
        others = [one for one in beside if one is not None]
        least = 1 if base else 2  # the whole body is not a wrapper of a picture
        sizes = range(least, len(picture) + 1)
        free = [size for size in sizes if not any(_under(one, [picture[:size]]) for one in others)]
        top = picture[: min(free, default=len(picture))]
        listed = [
            picture[:size]
            for size in range(len(top), len(picture))
            if isinstance(value_at(tree, picture[:size]), list)
        ]
        if listed:
            list_at = listed[-1]
            element = picture[: len(list_at) + 1]
            shape = self._picture_shape((*base, *element), (*base, *picture), "image")
            made: Any = [{"each image": shape}]
            replaced[list_at] = made
            inner = value_at(tree, top)
            fixed_beside = [one for one, _ in leaves(inner, top) if not _under(one, [list_at])]
            if top != list_at and fixed_beside:
                told = with_parts(_escaped(inner, {list_at[len(top) :]}), {list_at[len(top) :]: made})
                replaced.pop(list_at)
                replaced[top] = {"when pictures": told}
            self._used |= {(*base, *one) for one, _ in leaves(inner, top)}
        elif top == picture:
            replaced[picture] = f"{{image.{self._parts.pictures[(*base, *picture)].way}?}}"
            self._used.add((*base, *picture))
            self._put_siblings(tree, picture, replaced)
        else:
            replaced[top] = {"when pictures": self._picture_shape((*base, *top), (*base, *picture), "image")}

    def _put_siblings(self, tree: Any, picture: Path, replaced: dict[Path, Any]) -> None:
        """A media type that is beside a picture, both among other members."""
        around = value_at(tree, picture[:-1])
        for name, value in around.items() if isinstance(around, dict) else ():
            slot = _slot_for(name, value)
            if slot is not None:
                replaced[(*picture[:-1], name)] = f"{{image.{slot}?}}"

    def _picture_shape(self, element: Path, picture: Path, head: str) -> Any:
        """What holds a picture, with its slots: the picture, and its media type, format and name where they stand."""
        tree = value_at(self._parts.tree, element)
        size = len(element)
        replaced: dict[Path, Any] = {picture[size:]: f"{{{head}.{self._parts.pictures[picture].way}}}"}
        for path, value in leaves(tree):
            slot = _slot_for(names_of(path)[-1], value) if names_of(path) else None
            if slot is not None and path not in replaced:
                replaced[path] = f"{{{head}.{slot}}}"
        self._used |= {(*element, *path) for path in replaced}
        return with_parts(_escaped(tree, set(replaced)), replaced)

    # What stands once.

    def _put_plain(self) -> None:
        parts = self._parts
        covered = list(self._replaced)
        if parts.system is not None and not _under(parts.system, covered):
            self._replaced[parts.system] = "{system?}"
        if parts.model is not None:
            self._replaced[parts.model] = "{model}"
        self._replaced |= parts.secrets
        for path, setting in parts.settings.items():
            self._replaced[path] = f"{{{setting}?}}"
        if parts.schema is not None:
            self._put_schema(parts.schema)

    def _leave_out_other_pictures(self) -> None:
        """Pictures beside the one that the template is made after, which no list holds: nothing is sent there."""
        for path in self._parts.pictures:
            if path not in self._used and not _under(path, list(self._replaced)):
                self._replaced[path] = "{extra.another_picture?}"
                why = (
                    "a further place for a picture: nothing is sent there, for each picture goes where the first does"
                )
                self._parts.take("picture", path, why, sure=False)

    def _leave_open_what_is_to_be_filled_in(self) -> None:
        """A place to fill in is never sent as it is: it becomes a setting of the model's own."""
        for path, value in leaves(self._parts.tree):
            taken = path in self._used or _under(path, list(self._replaced))
            if isinstance(value, str) and names_of(path) and not taken and is_mark(value):
                slot = re.sub(r"\W+", "_", str(names_of(path)[-1]).lower()).strip("_") or "value"
                self._replaced[path] = f"{{extra.{slot}?}}"
                why = f"it is to be filled in, and is not sent until settings.extra.{slot} of the model has it"
                self._parts.take("to be filled in", path, why, sure=False)

    def _put_schema(self, schema: Path) -> None:
        """The schema vanishes with all that only wraps it."""
        others = [path for path in self._replaced if path != schema]
        free = [size for size in range(2, len(schema) + 1) if not any(_under(one, [schema[:size]]) for one in others)]
        top = schema[: min(free, default=len(schema))]
        if len(top) == len(schema):
            self._replaced[schema] = "{schema?}"
            return
        inner = value_at(self._parts.tree, top)
        inside = schema[len(top) :]
        self._replaced[top] = {"when schema": with_parts(_escaped(inner, {inside}), {inside: "{schema}"})}


def _slot_for(name: str, value: Any) -> str | None:
    """Which slot of a picture a member beside it is: its media type, its format, or its name."""
    if not isinstance(value, str):
        return None
    if MEDIA_TYPE.match(value):
        return "media_type"
    if value.lower() in FORMATS and len(name) < 30:
        return "format"
    if value.lower().endswith(tuple(f".{one}" for one in FORMATS)) and "/" not in value:
        return "name"
    return None


def _under(path: Path, tops: list[Any]) -> bool:
    """Whether a path leads into one of some parts, or is one of them."""
    return any(top is not None and path[: len(top)] == top for top in tops)


def _escaped(tree: Any, replaced: set[Path], at: Path = ()) -> Any:
    """A tree in which text that looks like a slot is written so that it stays text."""
    if at in replaced:
        return tree
    if isinstance(tree, dict):
        return {name: _escaped(inner, replaced, (*at, name)) for name, inner in tree.items()}
    if isinstance(tree, list):
        return [_escaped(inner, replaced, (*at, number)) for number, inner in enumerate(tree)]
    if isinstance(tree, str):
        return escaped(tree)
    return tree
