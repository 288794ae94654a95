"""Words of earlier versions: what they wrote is read under the words of now."""

from collections.abc import Mapping
from typing import Any


def migrate_keys(given: Any, words: Mapping[str, str]) -> Any:
    """Plain data with its keys as they are called now.

    Args:
        given: what is to be read; anything but a mapping is given back as it is.
        words: the word of now by the former one. Where both stand the one of now counts.
    """
    if not isinstance(given, Mapping):
        return given
    former = {now: given[before] for before, now in words.items() if before in given}
    return former | {key: value for key, value in given.items() if key not in words}
