"""What kept a piece of queued work from its end, in words, the same for each kind of work."""

import logging
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from django.conf import settings

from ivrell.core.base.errors import BadInput
from ivrell.core.base.logs import referred
from ivrell.core.records.trouble import Trouble


@contextmanager
def told(
    log: logging.Logger, what: str, words: str, fail: Callable[[Trouble], None], kept: str = ""
) -> Iterator[None]:
    """Tell what goes wrong inside; an error of Ivrell's own is raised on for the queue's record.

    Args:
        log: gets the details.
        what: the piece of work, such as "trial 7".
        words: how its kind is called, such as "The trial".
        fail: takes what is told.
        kept: what of it stays, such as "; the runs so far are kept".
    """
    again = "Run it again."
    try:
        yield
    except BadInput as error:
        fail(Trouble.of(error))
    except OSError as error:
        reference = referred(log, "%s", what)
        fail(
            Trouble(
                what=f"The system refused: {error.strerror or error}{kept}.",
                where=str(error.filename or settings.IVRELL_DATA),
                hint=f"The worker's log has the details under {reference}. {again}",
            )
        )
    except Exception:
        reference = referred(log, "%s ended with an error of Ivrell's own", what)
        fail(
            Trouble(
                what=f"{words} ended with an error inside Ivrell{kept}.",
                hint=f"The worker's log has the details under {reference}. {again}",
            )
        )
        raise
