"""Thrift's compact protocol, as far as the footer of a Parquet file needs it (Thrift compact
protocol encoding, Apache Thrift documentation)."""

import struct
from dataclasses import dataclass
from typing import Any

TRUE, FALSE, BYTE, I16, I32, I64, DOUBLE, BINARY, LIST, SET, MAP, STRUCT = range(1, 13)

Struct = dict[int, tuple[int, Any]]
"""Fields by their number, each with its type; booleans are types of their own."""


@dataclass
class Values:
    """A list: the type of its values, and they."""

    kind: int
    values: list[Any]


class Reader:
    """Reads values one behind the other.

    Args:
        data: bytes.
        at: where the first value begins.
    """

    def __init__(self, data: bytes, at: int = 0) -> None:
        self._data, self._at = data, at

    def record(self) -> Struct:
        """The fields of a struct."""
        found: Struct = {}
        number = 0
        while head := self._byte():
            kind, step = head & 15, head >> 4
            number = number + step if step else self._whole()
            found[number] = (kind, self._value(kind))
        return found

    def _byte(self) -> int:
        self._at += 1
        return self._data[self._at - 1]

    def _varint(self) -> int:
        value = shift = 0
        while True:
            byte = self._byte()
            value |= (byte & 127) << shift
            if byte < 128:
                return value
            shift += 7

    def _whole(self) -> int:
        value = self._varint()
        return (value >> 1) ^ -(value & 1)

    def _taken(self, count: int) -> bytes:
        self._at += count
        return self._data[self._at - count : self._at]

    def _value(self, kind: int, *, listed: bool = False) -> Any:
        if kind in (TRUE, FALSE):
            return self._byte() == TRUE if listed else kind == TRUE
        if kind == BYTE:
            return self._byte()
        if kind in (I16, I32, I64):
            return self._whole()
        if kind == DOUBLE:
            return struct.unpack("<d", self._taken(8))[0]
        if kind == BINARY:
            return self._taken(self._varint())
        if kind in (LIST, SET):
            head = self._byte()
            count = head >> 4 if head >> 4 < 15 else self._varint()
            of = head & 15
            return Values(of, [self._value(of, listed=True) for _ in range(count)])
        if kind == STRUCT:
            return self.record()
        raise ValueError(f"type {kind} of Thrift's is not read here")


def written(record: Struct) -> bytes:
    """The bytes of a struct."""
    found = bytearray()
    _put_record(found, record)
    return bytes(found)


def _put_varint(to: bytearray, value: int) -> None:
    while value > 127:
        to.append(value & 127 | 128)
        value >>= 7
    to.append(value)


def _put_whole(to: bytearray, value: int) -> None:
    _put_varint(to, value << 1 if value >= 0 else (-value << 1) - 1)


def _put_record(to: bytearray, record: Struct) -> None:
    before = 0
    for number, (kind, value) in sorted(record.items()):
        if 0 < number - before < 16:
            to.append((number - before) << 4 | kind)
        else:
            to.append(kind)
            _put_whole(to, number)
        before = number
        if kind not in (TRUE, FALSE):
            _put(to, kind, value)
    to.append(0)


def _put(to: bytearray, kind: int, value: Any) -> None:
    if kind in (TRUE, FALSE):
        to.append(TRUE if value else FALSE)
    elif kind == BYTE:
        to.append(value)
    elif kind in (I16, I32, I64):
        _put_whole(to, value)
    elif kind == DOUBLE:
        to += struct.pack("<d", value)
    elif kind == BINARY:
        _put_varint(to, len(value))
        to += value
    elif kind in (LIST, SET):
        count = len(value.values)
        to.append((count if count < 15 else 15) << 4 | value.kind)
        if count >= 15:
            _put_varint(to, count)
        for one in value.values:
            _put(to, value.kind, one)
    elif kind == STRUCT:
        _put_record(to, value)
    else:
        raise ValueError(f"type {kind} of Thrift's is not written here")
