"""A sample's columns beside the generated ones, drawn alike, without the sample's values."""

from typing import Any, NamedTuple

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ivrell.core.recipe.profile import are_whole, profile, whole_edges
from ivrell.core.records.profile import Histogram, Profile, Top

_BINS = 24


class Beside(NamedTuple):
    """A sample's column and the generated one."""

    sample: Profile
    generated: Profile


def beside(sample: pa.Array, made: pa.Array, name: str) -> Beside:
    """Profiles of a sample's column and of the generated one.

    Numbers and moments share their bins, whose ends are rounded outward. Of the sample no
    value is told: neither ends nor quantiles nor frequent values, only how often they are.
    """
    ours, theirs = (
        profile(pa.record_batch([column], names=[name]))[0] for column in (sample, made)
    )
    if ours.histogram and theirs.histogram:
        _share_bins(ours, theirs, sample, made)
    ours.smallest = ours.largest = ours.quantiles = None
    if ours.top:
        ours.top = [
            Top(value=f"value {place}", count=top.count) for place, top in enumerate(ours.top, 1)
        ]
    return Beside(ours, theirs)


def _share_bins(ours: Profile, theirs: Profile, sample: pa.Array, made: pa.Array) -> None:
    histograms = [found.histogram for found in (ours, theirs) if found.histogram]
    ends = [histogram.edges[place] for histogram in histograms for place in (0, -1)]
    low, high = min(ends), max(ends)
    unit = 10.0 ** np.floor(np.log10(high - low)) / 10 if high > low else 1.0
    low, high = np.floor(low / unit) * unit, np.ceil(high / unit) * unit
    if all(are_whole(_numbers(column.drop_null())) for column in (sample, made)):
        edges = whole_edges(np.floor(low), np.ceil(high))
    else:
        edges = np.linspace(low, high, _BINS + 1)
    for found, column in ((ours, sample), (theirs, made)):
        counts, _ = np.histogram(_numbers(column.drop_null()), bins=edges)
        found.histogram = Histogram(counts=counts.tolist(), edges=edges.tolist())


def _numbers(known: pa.Array) -> Any:
    if pa.types.is_timestamp(known.type):
        known = pc.divide(known.cast(pa.timestamp("us")).cast(pa.int64()), 1_000_000)
    return known.to_numpy(zero_copy_only=False)
