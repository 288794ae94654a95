"""Reading what a request says; what it says wrong is told as such, and nothing else is."""

from typing import TypeVar

from pydantic import BaseModel, ValidationError
from rest_framework.request import Request

from ivrell.core.base.errors import BadInput
from ivrell.core.base.wording import told

Asked = TypeVar("Asked", bound=BaseModel)


def asked(shape: type[Asked], request: Request) -> Asked:
    """The body of a request in a shape. Raises BadInput that names the place."""
    try:
        return shape.model_validate(request.data)
    except ValidationError as error:
        problem = told(error)
        message = problem.message[:1].upper() + problem.message[1:]
        raise BadInput(f"{message}.", where=problem.path) from None


def whole_number(request: Request, name: str) -> int:
    """A whole number from the query of a request. Raises BadInput where it is none."""
    given = request.query_params.get(name, "")
    if not given.isascii() or not given.isdigit() or len(given) > _MOST_DIGITS:
        raise BadInput(
            f'"{given[:40]}" is no number of a {name}.' if given else f"A {name} is missing.",
            where=name,
            hint=f"Give it as {name}=1.",
        )
    return int(given)


_MOST_DIGITS = 9
