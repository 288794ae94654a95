"""Hours of the day in which a job may be done, on the machine's own clock."""

import datetime
from typing import Annotated

from pydantic import BaseModel, Field

Hour = Annotated[int, Field(ge=0, le=23)]


class Hours(BaseModel, frozen=True):
    """From the hour ``first`` until the hour ``until``, which may be the next morning's; where both
    are the same, the whole day."""

    first: Hour
    until: Hour

    def allow(self, now: datetime.datetime | None = None) -> bool:
        """Whether a time lies within; now unless given."""
        hour = (now or datetime.datetime.now()).astimezone().hour
        if self.first < self.until:
            return self.first <= hour < self.until
        return self.first == self.until or hour >= self.first or hour < self.until

    def next_opening(self, now: datetime.datetime | None = None) -> datetime.datetime:
        """When they begin next."""
        here = (now or datetime.datetime.now()).astimezone()
        opening = here.replace(hour=self.first, minute=0, second=0, microsecond=0)
        return opening if opening > here else opening + datetime.timedelta(days=1)
