"""Named tuples whose classes are made quickly: a run makes some two hundred of them before it does anything.

`typing.NamedTuple` looks at the annotation of each field when a class is made, and compiles those that are text; the
standard library's `namedtuple` compiles a constructor for each class. Both together were a fifth of the time of one
diagnosis. Here one constructor is compiled for each number of fields, and gets their names in each class. Type checkers
see `typing.NamedTuple` itself, and the classes are as it makes them, but that none is generic, that methods can call
`super()`, and that `_replace` takes half the time.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from typing import NamedTuple as NamedTuple
else:
    from collections import _tuplegetter
    from functools import cache
    from types import FunctionType

    class _Fields(tuple):
        """What all of these classes share."""

        __slots__ = ()
        _fields: tuple[str, ...] = ()
        _places: dict[str, int] = {}  # noqa: RUF012  an empty one that nothing writes to

        @classmethod
        def _make(cls, values: Any) -> Any:
            made = tuple.__new__(cls, values)
            if len(made) != len(cls._fields):
                raise TypeError(f"{cls.__name__} takes {len(cls._fields)} values, got {len(made)}")
            return made

        def _replace(self, /, **changes: Any) -> Any:
            values, places = list(self), self._places
            for field, value in changes.items():
                place = places.get(field)
                if place is None:
                    raise ValueError(f"{type(self).__name__} has no field {field}")
                values[place] = value
            return tuple.__new__(type(self), values)

        def _asdict(self) -> dict[str, Any]:
            return dict(zip(self._fields, self, strict=True))

        def __repr__(self) -> str:
            told = ", ".join(f"{field}={value!r}" for field, value in self._asdict().items())
            return f"{type(self).__name__}({told})"

        def __getnewargs__(self) -> tuple[Any, ...]:
            return tuple(self)

    @cache
    def _constructor(count: int) -> FunctionType:
        """One that takes so many values."""
        names = "".join(f", v{number}" for number in range(count))
        inside = "".join(f"v{number}, " for number in range(count))
        return eval(f"lambda _cls{names}: _new(_cls, ({inside}))", {"_new": tuple.__new__})

    class _Maker(type):
        def __new__(cls, name: str, bases: tuple[Any, ...], members: dict[str, Any]) -> type:
            fields = tuple(members.get("__annotations__", ()))
            given = [field in members for field in fields]
            if sorted(given) != given:
                raise TypeError(f"{name}: a field without a default follows one that has one")
            defaults = {field: members.pop(field) for field in fields if field in members}
            like = _constructor(len(fields))
            code = like.__code__.replace(co_varnames=("_cls", *fields), co_name="__new__")
            new = FunctionType(code, like.__globals__, "__new__", tuple(defaults.values()))
            new.__annotations__ = members.get("__annotations__", {})
            made = {
                **members,
                "__slots__": (),
                "__new__": new,
                "__match_args__": fields,
                "_fields": fields,
                "_field_defaults": defaults,
                "_places": {field: place for place, field in enumerate(fields)},
            }
            made |= {field: _tuplegetter(place, None) for place, field in enumerate(fields)}
            made.setdefault("__hash__", tuple.__hash__)  # also where equality is told otherwise
            made.pop("__orig_bases__", None)
            return type(name, (_Fields,), made)

    NamedTuple = type.__new__(_Maker, "NamedTuple", (), {})
