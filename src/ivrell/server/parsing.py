"""Reading what requests bring as JSON."""

import json
from typing import Any

from rest_framework.exceptions import ParseError
from rest_framework.parsers import JSONParser


class BoundedJSON(JSONParser):
    """JSON that is not nested beyond what can be read, of characters that can be written."""

    def parse(self, *given: Any, **named: Any) -> Any:
        try:
            parsed = super().parse(*given, **named)
            # Half of a pair of surrogates is no character, and could be told to nobody.
            written = json.dumps(parsed, ensure_ascii=False).encode()
            # The only way that a NUL is written in JSON; the records can hold none.
            if b"\\u0000" in written.replace(b"\\\\", b""):
                raise ValueError("it holds the character NUL, which no text here can hold")
            return parsed
        except (RecursionError, ValueError) as error:
            raise ParseError(f"The request is no JSON that can be read here: {error}.") from None
