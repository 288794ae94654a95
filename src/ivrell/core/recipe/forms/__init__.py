"""Forms of a table on disk; a new form is a class and a word here."""

import io
from dataclasses import replace

import pyarrow as pa

from ivrell.core.base.errors import BadInput
from ivrell.core.recipe.flat import flat, flat_schema
from ivrell.core.recipe.forms.avro import Avro
from ivrell.core.recipe.forms.base import Encoded, Form, Layout, Picks, Writer
from ivrell.core.recipe.forms.columnar import Arrow, ArrowStream, Orc
from ivrell.core.recipe.forms.fixed import Fixed, places
from ivrell.core.recipe.forms.parquet import Parquet
from ivrell.core.recipe.forms.sheet import Ods
from ivrell.core.recipe.forms.text import Csv, CsvGz, CsvZst, Jsonl
from ivrell.core.recipe.forms.xlsx import Xlsx

_ALL: tuple[Form, ...] = (
    Csv(), CsvGz(), CsvZst(), Fixed(), Jsonl(), Parquet(), Arrow(), ArrowStream(), Orc(), Ods(),
    Xlsx(), Avro(),
)  # fmt: skip
FORMS = {form.suffix: form for form in _ALL}


def form_called(name: str) -> Form:
    """The form of that word. Raises BadInput when there is none."""
    if name not in FORMS:
        raise BadInput(f'There is no form "{name}".', hint=f"Forms here: {', '.join(FORMS)}.")
    return FORMS[name]


def size_in(form: str, sample: pa.RecordBatch, layout: Layout) -> int:
    """Bytes that a sample takes on disk in a form."""
    sink = io.BytesIO()
    if not FORMS[form].nests:
        sample, layout = flat(sample), replace(layout, schema=flat_schema(layout.schema))
    writer = FORMS[form].writer(sink, layout)
    writer.add(FORMS[form].encode(sample, layout, []))
    writer.close()
    return len(sink.getbuffer()) + len(FORMS[form].head(layout))


__all__ = [
    "FORMS", "Encoded", "Form", "Layout", "Picks", "Writer", "form_called", "places", "size_in",
]  # fmt: skip
