"""What the lanes of a result folder cost, by prices that are kept on this machine."""

from ivrell.core.base.errors import BadInput
from ivrell.core.comparison.file import parse
from ivrell.core.comparison.model import Comparison
from ivrell.core.prices import PriceTables
from ivrell.core.records.cost import Assumed, CostFindings
from ivrell.core.records.points import Point
from ivrell.core.report.cost import costs
from ivrell.core.results.folder import DATA, FINDINGS, SWEEP, ResultFolder


def cost_of(
    results: ResultFolder,
    assumed: Assumed | None = None,
    point: Point | None = None,
    now: Comparison | None = None,
) -> CostFindings:
    """What the lanes of a trial that has ended cost a month.

    Args:
        assumed: how often, and on what; what the file says under ``[cost]`` unless given.
        point: looked at; the first unless given.
        now: the comparison whose ``[cost]`` is taken; as it was run unless given.

    Raises BadInput where nothing is assumed, a price is not known, or it has not ended.
    """
    if not results.has_ended:
        raise BadInput("This trial has not ended.", hint="Wait for its end, or go on with it.")
    ran = parse(results.comparison_text)
    wanted = assumed or (now or ran).cost
    if wanted is None:
        raise BadInput("How often it runs, and where, is not said.", where="cost")
    found = results.read(FINDINGS)
    if not found.sweeps and results.has(SWEEP):
        found = found.model_copy(update={"sweeps": results.read(SWEEP)})
    made = results.read(DATA) if results.has(DATA) else []
    return costs(ran, found, made, wanted, PriceTables().all(), point)
