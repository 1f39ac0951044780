"""What every table is made of: the base, words that the database holds to, JSON."""

from __future__ import annotations

from datetime import date, datetime
from enum import StrEnum
from typing import Any, ClassVar

from sqlalchemy import (
    Boolean,
    Date,
    DateTime,
    Float,
    Integer,
    LargeBinary,
    Text,
    TypeDecorator,
    func,
)
from sqlalchemy.dialects.postgresql import ARRAY, JSONB
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column

from myriant.core.states import (
    Accepted,
    ApprovalState,
    BatchState,
    Content,
    ControlState,
    DeliveryState,
    EventKind,
    Mark,
    Page,
    Place,
    PullState,
    Role,
    SearchState,
    State,
    TokenKind,
    Verdict,
    Wants,
    Why,
)

Json = dict[str, Any]


class Word(TypeDecorator[Any]):
    """A text that is one of an enumeration's words; a CHECK constraint holds the database to them."""

    impl = Text
    cache_ok = True

    def __init__(self, words: type[StrEnum]) -> None:
        super().__init__()
        self.words = words

    def process_bind_param(self, value: Any, dialect: Any) -> str | None:
        return None if value is None else str(value)

    def process_result_value(self, value: Any, dialect: Any) -> StrEnum | None:
        return None if value is None else self.words(value)


_WORDS: tuple[type[StrEnum], ...] = (
    Accepted,
    ApprovalState,
    BatchState,
    Content,
    ControlState,
    DeliveryState,
    EventKind,
    Mark,
    Page,
    Place,
    PullState,
    Role,
    SearchState,
    State,
    TokenKind,
    Verdict,
    Wants,
    Why,
)


class Base(DeclarativeBase):
    type_annotation_map: ClassVar[dict[Any, Any]] = {
        int: Integer,
        str: Text,
        float: Float,
        bool: Boolean,
        bytes: LargeBinary,
        datetime: DateTime(timezone=True),
        date: Date,
        Json: JSONB,
        list[Any]: JSONB,
        list[str]: ARRAY(Text),
        list[int]: ARRAY(Integer),
    } | {words: Word(words) for words in _WORDS}


def moment() -> Mapped[datetime]:
    return mapped_column(server_default=func.now())
