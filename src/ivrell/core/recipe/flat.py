"""Lists and records as JSON text, for what knows neither."""

import json

import pyarrow as pa


def json_text(column: pa.Array) -> pa.Array:
    """Each list or record as JSON, days and moments in it as text; null where there is none."""
    return pa.array(
        [
            None if value is None else json.dumps(value, default=str, ensure_ascii=False)
            for value in column.to_pylist()
        ],
        pa.string(),
    )


def flat(batch: pa.RecordBatch) -> pa.RecordBatch:
    """A batch with JSON text for lists and records; itself where it has none."""
    if not any(pa.types.is_nested(field.type) for field in batch.schema):
        return batch
    columns = [json_text(c) if pa.types.is_nested(c.type) else c for c in batch.columns]
    return pa.RecordBatch.from_arrays(columns, names=batch.schema.names)


def flat_schema(schema: pa.Schema) -> pa.Schema:
    """The schema of such a batch."""
    return pa.schema(
        [
            pa.field(field.name, pa.string()) if pa.types.is_nested(field.type) else field
            for field in schema
        ]
    )
