"""Variants: settings or a prep laid over models, to compare a factor: temperature, output limit, picture size.

A model with a variant laid over it is a model of its own, `fulmar+warm`, that is asked as any other.
"""

from __future__ import annotations

from collections.abc import Mapping

from pydantic import Field, model_validator

from drovik.errors import Problem, known_words
from drovik.project.models import Laid, Model, Name, Settings
from drovik.project.preps import Prep
from drovik.project.toml_files import Frozen

MARK = "+"
"""Between a model and the variant that is laid over it."""
_FILE = "drovik.toml"


class Variant(Frozen):
    """What is laid over models: all, or those of `models`; asked in all tasks, or in those of `tasks`.

    `settings` go before the model's own of the same name; `prep`, a name or a table of its own, is how their pictures
    are prepared in place of the project's preps.
    """

    models: tuple[Name, ...] | None = Field(default=None, min_length=1)
    tasks: tuple[Name, ...] | None = Field(default=None, min_length=1)
    settings: Settings = Settings()
    prep: Name | Prep | None = None
    note: str = ""

    @model_validator(mode="after")
    def _lays_something(self) -> Variant:
        if self.prep is None and not self.settings.canonical():
            raise ValueError("it changes nothing: give settings or a prep")
        return self


def with_variants(
    models: Mapping[str, Model], preps: Mapping[str, Prep], variants: Mapping[str, Variant], problems: list[Problem]
) -> dict[str, Model]:
    """The models, each followed by those that variants make of it; what is wrong is added to `problems`."""
    for name, variant in variants.items():
        place = f"variants.{name}"
        for word in variant.models or ():
            if word not in models:
                what = f"there is no model '{word}'"
                problems.append(Problem(what, known_words(word, models), _FILE, f"{place}.models"))
        if isinstance(variant.prep, str) and variant.prep not in preps:
            what = f"there is no prep '{variant.prep}'"
            problems.append(Problem(what, known_words(variant.prep, preps), _FILE, f"{place}.prep"))
    found: dict[str, Model] = {}
    for model_name, model in models.items():
        found[model_name] = model
        for name, variant in variants.items():
            if variant.models is not None and model_name not in variant.models:
                continue
            both = f"{model_name}{MARK}{name}"
            if both in models:
                what = f"'{both}' is also what the variant '{name}' makes of the model '{model_name}'"
                problems.append(Problem(what, "rename one of them", _FILE, f"models.{both}"))
            found[both] = _laid_over(model, model_name, variant, name, preps)
    return found


def _laid_over(model: Model, model_name: str, variant: Variant, name: str, preps: Mapping[str, Prep]) -> Model:
    """A model with a variant laid over it."""
    own, over = model.settings, variant.settings
    merged = {one: getattr(over, one) for one in type(over).model_fields if getattr(over, one) is not None}
    merged["extra"] = {**own.extra, **over.extra}
    named = variant.prep if isinstance(variant.prep, str) else None
    prep = variant.prep if isinstance(variant.prep, Prep) else preps.get(named or "")
    laid = Laid(model_name, name, named or name, prep, variant.tasks)
    return model.changed(settings=own.changed(**merged), laid=laid)
