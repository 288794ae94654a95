"""The price tables that the user keeps on this machine. None are shipped: prices are the user's."""

from collections.abc import Callable
from pathlib import Path

from pydantic import ValidationError

from ivrell.core.base.errors import BadInput
from ivrell.core.base.folders import data_folder
from ivrell.core.base.locks import alone
from ivrell.core.base.wording import told
from ivrell.core.records.cost import MachinePrice, Prices, StoragePrice

_OTHERS_S = 30.0


class PriceTables:
    """The file of prices.

    Args:
        folder: where it lies; Ivrell's data folder unless given.
    """

    def __init__(self, folder: Path | None = None) -> None:
        self._path = (folder or data_folder()) / "prices.json"

    def all(self) -> Prices:
        """All prices. Raises BadInput where the file cannot be read."""
        try:
            return Prices.model_validate_json(self._path.read_bytes())
        except FileNotFoundError:
            return Prices()
        except (OSError, ValidationError) as error:
            raise BadInput(
                f"The prices cannot be read: {error}.", where=str(self._path),
                hint="Put the file right, or move it away and tell each price anew.",
            ) from None  # fmt: skip

    def put(self, prices: Prices) -> None:
        """Keep these in place of all that are there. Raises BadInput."""
        self._change(lambda _: dict(prices))

    def put_machine(self, name: str, price: MachinePrice) -> None:
        """Let a machine cost so much. Raises BadInput for what cannot be a name."""
        self._change(lambda old: {"machines": {**old.machines, name: price}})

    def put_storage(self, name: str, price: StoragePrice) -> None:
        """Let a storage cost so much. Raises BadInput for what cannot be a name."""
        self._change(lambda old: {"storages": {**old.storages, name: price}})

    def say_currency(self, word: str) -> None:
        """The word behind every amount. Raises BadInput."""
        self._change(lambda old: {"currency": word})

    def remove(self, name: str) -> None:
        """Forget a machine or a storage. Raises BadInput where there is none of that name."""
        known = self.all()
        if name not in known.machines and name not in known.storages:
            raise BadInput(f"No price is kept for {name}.", hint=f"Known: {names(known)}.")
        self._change(
            lambda old: {
                "machines": {key: one for key, one in old.machines.items() if key != name},
                "storages": {key: one for key, one in old.storages.items() if key != name},
            }
        )

    def _change(self, change: Callable[[Prices], dict[str, object]]) -> None:
        with alone(self._path.with_suffix(".lock"), wait_s=_OTHERS_S):
            old = self.all()
            try:
                new = Prices.model_validate(dict(old) | change(old))
            except ValidationError as error:
                problem = told(error)
                raise BadInput(f"{problem.message}.", where=problem.path) from None
            part = self._path.with_suffix(".part")
            part.write_text(new.model_dump_json(indent=1), encoding="utf-8")
            part.replace(self._path)


def names(prices: Prices) -> str:
    """The names that prices are kept for, as people read them."""
    return ", ".join([*prices.machines, *prices.storages]) or "none yet"
