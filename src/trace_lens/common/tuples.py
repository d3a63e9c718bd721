"""Named tuples whose classes are made quickly: a run makes some two hundred of them before it does anything.

`typing.NamedTuple` looks at the annotation of each field when a class is made, and compiles those that are text: a
twentieth of the time of one diagnosis. Type checkers see `typing.NamedTuple` itself, and the classes are as it makes
them, but that none is generic, and that `_replace` takes half the time.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from typing import NamedTuple as NamedTuple
else:
    from collections import namedtuple

    _MADE_ANEW = ("__module__", "__qualname__", "__annotations__", "__orig_bases__", "__classcell__")

    class _Maker(type):
        def __new__(cls, name: str, bases: tuple[Any, ...], members: dict[str, Any]) -> type:
            fields = members.get("__annotations__", {})
            given = [field in members for field in fields]
            if sorted(given) != given:
                raise TypeError(f"{name}: a field without a default follows one that has one")
            defaults = [members[field] for field in fields if field in members]
            made = namedtuple(name, fields, defaults=defaults, module=members["__module__"])
            made.__annotations__ = made.__new__.__annotations__ = fields
            made.__qualname__ = members.get("__qualname__", name)
            for key, value in members.items():
                if key not in fields and key not in _MADE_ANEW:
                    setattr(made, key, value)
            made._places = {field: place for place, field in enumerate(made._fields)}
            made._replace = _replace
            return made

    def _replace(self: Any, /, **changes: Any) -> Any:
        values = list(self)
        places = self._places
        for field, value in changes.items():
            place = places.get(field)
            if place is None:
                raise ValueError(f"{type(self).__name__} has no field {field}")
            values[place] = value
        return tuple.__new__(type(self), values)

    NamedTuple = type.__new__(_Maker, "NamedTuple", (), {})
