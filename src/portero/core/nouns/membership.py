"""Membership rules: conditions over facts, in a tree of `all`, `any` and `none`."""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import timedelta
from enum import StrEnum
from ipaddress import ip_network
from typing import Annotated, Any, NamedTuple, Self

from pydantic import (
    BeforeValidator,
    ConfigDict,
    Discriminator,
    Field,
    Tag,
    TypeAdapter,
    ValidationError,
    model_validator,
)

from portero.core.nouns.base import Noun, Text, tag, unknown_word
from portero.core.nouns.device import Kind, Lifecycle, Place
from portero.core.nouns.layer import LayerMode
from portero.core.nouns.versions import version_key


class Op(StrEnum):
    """How a condition compares. Text folds case."""

    IS = "is"
    ONE_OF = "one_of"
    STARTS_WITH = "starts_with"
    ENDS_WITH = "ends_with"
    CONTAINS = "contains"
    LIKE = "like"
    UNDER = "under"
    WITHIN = "within"
    FROM = "from"
    TO = "to"
    BELOW = "below"
    OLDER_THAN = "older_than"
    HAS = "has"


_TEXT_OPS = (Op.IS, Op.ONE_OF, Op.STARTS_WITH, Op.ENDS_WITH, Op.CONTAINS, Op.LIKE)
_VERSION_OPS = (*_TEXT_OPS, Op.FROM, Op.TO, Op.BELOW)


class FieldShape(NamedTuple):
    """How a fact is tested: by which operators, and, where only some words are possible, which."""

    ops: tuple[Op, ...]
    words: tuple[str, ...] = ()


def _words(kind: type[StrEnum]) -> FieldShape:
    return FieldShape(_TEXT_OPS, tuple(word.value for word in kind))


_TEXT, _VERSION = FieldShape(_TEXT_OPS), FieldShape(_VERSION_OPS)
_ITEMS = FieldShape((Op.HAS,))
FIELDS: dict[str, FieldShape] = {
    "hostname": _TEXT,
    "lifecycle": _words(Lifecycle),
    "kind": _words(Kind),
    "unit": FieldShape((*_TEXT_OPS, Op.UNDER)),
    "os.family": _TEXT,
    "os.version": _VERSION,
    "addresses": FieldShape((Op.WITHIN,)),
    "serial": _TEXT,
    "browsers": _ITEMS,
    "browsers.name": _TEXT,
    "browsers.version": _VERSION,
    "applications": _ITEMS,
    "applications.product": _TEXT,
    "applications.vendor": _TEXT,
    "applications.file": _TEXT,
    "applications.signer": _TEXT,
    "applications.version": _VERSION,
    "layers.filter": _words(LayerMode),
    "layers.browser": _words(LayerMode),
    "layers.startup": _words(LayerMode),
    "place": _words(Place),
    "zone": _TEXT,
    "last_start": FieldShape((Op.OLDER_THAN,)),
    "sample": FieldShape((Op.BELOW, Op.FROM)),
}
"""The facts a condition may name; beside them `labels.NAME`."""

_LABEL = "labels."
_DURATION = TypeAdapter(timedelta)


def field_shape(field: str) -> FieldShape | None:
    """How a field is tested; None for one that is not known."""
    if field.startswith(_LABEL) and len(field) > len(_LABEL):
        return _TEXT
    return FIELDS.get(field)


def duration(text: str) -> timedelta:
    """An ISO 8601 duration such as `P30D`. ValueError where it is none, or not longer than nothing."""
    try:
        found = _DURATION.validate_python(text)
    except ValidationError:
        found = timedelta()
    if found <= timedelta() or text[:1] not in ("P", "p"):
        raise ValueError(f"“{text[:40]}” is not a duration; write it as ISO 8601 has it, as in P30D or PT12H")
    return found


def hundredths(text: str) -> int:
    """A share such as `10 %` or `2.5 %` in hundredths of a percent. ValueError where it is none."""
    found = re.fullmatch(r"\s*(\d{1,3}(?:\.\d{1,2})?)\s*%?\s*", text)
    if found is None or float(found[1]) > 100:
        raise ValueError(f"“{text[:40]}” is not a share between 0 and 100 %, as in 10 % or 2.5 %")
    return round(float(found[1]) * 100)


class VersionBounds(Noun):
    """Bounds of a version: at least `from`, at most `to`, less than `below`, or exactly `is`; each must hold."""

    model_config = ConfigDict(populate_by_name=True, serialize_by_alias=True)
    from_: Annotated[Text | None, Field(alias="from")] = None
    to: Text | None = None
    below: Text | None = None
    is_: Annotated[Text | None, Field(alias="is")] = None

    def given(self) -> Iterator[tuple[Op, str]]:
        """The bounds that are given, as operators."""
        for op, value in ((Op.FROM, self.from_), (Op.TO, self.to), (Op.BELOW, self.below), (Op.IS, self.is_)):
            if value is not None:
                yield op, value

    @model_validator(mode="after")
    def _fits(self) -> Self:
        values = [value for _, value in self.given()]
        if not values:
            raise ValueError("a version needs one of from, to, below, is")
        for value in values:
            _refuse_no_version(value)
        return self


def _refuse_no_version(value: str) -> None:
    if version_key(value) is None:
        raise ValueError(f"“{value[:60]}” is not a version; it must begin with a number, as in 4.2")


def bounds_of(value: Any) -> Any:
    """Bounds as a document gives them: a version by itself means just that one."""
    return {"is": value} if isinstance(value, str) else value


class ItemTest(Noun):
    """What one and the same browser or application must be: every field that is given must fit."""

    name: Text | None = None
    managed: bool | None = None
    product: Text | None = None
    vendor: Text | None = None
    file: Text | None = None
    signer: Text | None = None
    certificate: Text | None = None
    path: Text | None = None
    category: Text | None = None
    version: Annotated[VersionBounds | None, BeforeValidator(bounds_of)] = None

    @property
    def given(self) -> dict[str, Any]:
        """The fields that are given."""
        return {name: value for name in type(self).model_fields if (value := getattr(self, name)) is not None}


_ITEM_FIELDS = {
    "browsers": ("name", "version", "managed"),
    "applications": ("product", "vendor", "version", "signer", "certificate", "file", "path", "category"),
}


def _value_form(value: Any) -> str:
    if isinstance(value, list | tuple):
        return tag("list")
    return tag("item") if isinstance(value, dict | ItemTest) else tag("text")


Value = Annotated[
    Annotated[Text, Tag(tag("text"))]
    | Annotated[tuple[Text, ...], Field(min_length=1, max_length=1000), Tag(tag("list"))]
    | Annotated[ItemTest, Tag(tag("item"))],
    Discriminator(_value_form),
]


class Condition(Noun):
    """One test on one fact: `{field, op, value}`."""

    field: Annotated[Text, Field(description=f"One of {', '.join(FIELDS)}, or labels.NAME.")]
    op: Op
    value: Value

    @model_validator(mode="after")
    def _fits(self) -> Self:
        shape = field_shape(self.field)
        if shape is None:
            raise ValueError(unknown_word("fact", self.field, FIELDS) + f"; known are {', '.join(FIELDS)}, labels.NAME")
        if self.op not in shape.ops:
            raise ValueError(f"“{self.field}” is not compared with “{self.op}”; use {', '.join(shape.ops)}")
        wanted = {Op.ONE_OF: "list", Op.HAS: "item"}.get(self.op, "text")
        if _value_form(self.value) != tag(wanted):
            words = {"list": "a list of values", "item": "a mapping of fields", "text": "a single value"}
            raise ValueError(f"“{self.op}” takes {words[wanted]}")
        self._check_value(shape)
        return self

    def _check_value(self, shape: FieldShape) -> None:
        if self.op in (Op.IS, Op.ONE_OF) and shape.words:
            for word in self.texts:
                if word.casefold() not in shape.words:
                    raise ValueError(unknown_word(self.field, word, shape.words))
        elif self.op is Op.WITHIN:
            ip_network(str(self.value), strict=False)
        elif self.op is Op.OLDER_THAN:
            duration(str(self.value))
        elif self.field == "sample":
            hundredths(str(self.value))
        elif self.op in (Op.FROM, Op.TO, Op.BELOW):
            _refuse_no_version(str(self.value))
        elif isinstance(self.value, ItemTest):
            foreign = sorted(set(self.value.given).difference(_ITEM_FIELDS[self.field]))
            if foreign:
                raise ValueError(unknown_word(f"field of {self.field}", foreign[0], _ITEM_FIELDS[self.field]))
            if not self.value.given:
                raise ValueError(f"“has” needs at least one of {', '.join(_ITEM_FIELDS[self.field])}")

    @property
    def texts(self) -> tuple[str, ...]:
        """The value as a tuple of texts; for `is` and `one_of`."""
        return self.value if isinstance(self.value, tuple) else (str(self.value),)


_ITEM_PART = re.compile(r"\s*([a-z][a-z0-9]*)\s*(<=|>=|<|=)\s*(.*?)\s*$", re.DOTALL)
_BOUND = {"<": "below", "<=": "to", ">=": "from", "=": "is"}


def read_condition(text: str) -> Condition:
    """A condition written as `FIELD OP VALUE`, as in “kind one_of kiosk,tablet” or “applications has product=Chart
    Table;version<4.2”. ValueError, or Pydantic's, where it is none.
    """
    parts = text.split(None, 2)
    if len(parts) != 3:
        raise ValueError(f"“{text[:80]}” is no condition; write it as FIELD OP VALUE, as in “kind is kiosk”")
    field, op, value = parts
    if op == Op.HAS:
        return Condition.model_validate({"field": field, "op": op, "value": read_item(value)})
    listed = [user.strip() for user in value.split(",")] if op == Op.ONE_OF else value
    return Condition.model_validate({"field": field, "op": op, "value": listed})


def read_item(text: str) -> dict[str, Any]:
    """What is wanted of one item, such as a program: “product=Chart Table;version<4.2”, set apart by ; or by a comma.
    ValueError where it is not that.
    """
    wanted: dict[str, Any] = {}
    for part in re.split("[;,]", text):
        found = _ITEM_PART.match(part)
        if found is None or (found[1] != "version" and found[2] != "="):
            raise ValueError(f"“{part[:60]}” is not NAME=VALUE, as in “product=Chart Table;version<4.2”")
        name, sign, value = found.groups()
        if name == "version":
            wanted.setdefault("version", {})[_BOUND[sign]] = value
        else:
            wanted[name] = value
    return wanted


def _branch(value: Any) -> str:
    has_field = isinstance(value, Condition) or (isinstance(value, dict) and ("field" in value or "op" in value))
    return tag("condition" if has_field else "rule")


Branch = Annotated[
    Annotated[Condition, Tag(tag("condition"))] | Annotated["MembershipRule", Tag(tag("rule"))],
    Discriminator(_branch),
]
Branches = Annotated[tuple[Branch, ...], Field(min_length=1, max_length=200)]


class MembershipRule(Noun):
    """`all`, `any`, `none` over conditions or further rules; where several are given, each must hold."""

    all: Branches | None = None
    any: Branches | None = None
    none: Branches | None = None

    @model_validator(mode="after")
    def _says_something(self) -> Self:
        if self.all is None and self.any is None and self.none is None:
            raise ValueError("a membership rule needs “all”, “any” or “none” with at least one condition")
        return self

    def conditions(self) -> Iterator[Condition]:
        """Every condition in it, nested ones too."""
        for branch in (*(self.all or ()), *(self.any or ()), *(self.none or ())):
            if isinstance(branch, Condition):
                yield branch
            else:
                yield from branch.conditions()


class MembershipField(Noun):
    """A fact that conditions may name, and how it is compared."""

    field: str
    ops: tuple[Op, ...]
    words: Annotated[tuple[str, ...], Field(description="The words that are possible, where only some are.")] = ()
    parts: Annotated[tuple[str, ...], Field(description="The fields of an item, for `has`.")] = ()


def membership_fields() -> list[MembershipField]:
    """Every fact that conditions may name; `labels.NAME` stands for all labels."""
    shapes = {**FIELDS, "labels.NAME": _TEXT}
    return [
        MembershipField(field=field, ops=shape.ops, words=shape.words, parts=_ITEM_FIELDS.get(field, ()))
        for field, shape in shapes.items()
    ]
