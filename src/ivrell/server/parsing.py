"""Reading what requests bring as JSON."""

from typing import Any

from rest_framework.exceptions import ParseError
from rest_framework.parsers import JSONParser


class BoundedJSON(JSONParser):
    """JSON that is not nested beyond what can be read."""

    def parse(self, *given: Any, **named: Any) -> Any:
        try:
            return super().parse(*given, **named)
        except (RecursionError, ValueError) as error:
            raise ParseError(f"The request is no JSON that can be read here: {error}.") from None
