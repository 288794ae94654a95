/** A row of small fields with a button, for what is registered by name. */
import { Button, Input } from "antd";
import { useState } from "react";

export type Field = { key: string; label: string; hint: string };

type Props = {
  fields: Field[];
  button: string;
  id: string;
  pending: boolean;
  /** Gives what stands in the fields; they are emptied once it says that it was taken. */
  onSubmit: (values: Record<string, string>, taken: () => void) => void;
};

export function FieldsForm({ fields, button, id, pending, onSubmit }: Props) {
  const [values, setValues] = useState<Record<string, string>>({});
  const whole = Object.fromEntries(fields.map(({ key }) => [key, values[key] ?? ""]));
  return (
    <form
      className="row registry-form"
      onSubmit={(event) => {
        event.preventDefault();
        onSubmit(whole, () => setValues({}));
      }}
    >
      {fields.map(({ key, label, hint }) => (
        <Input
          key={key}
          size="small"
          value={whole[key]}
          aria-label={label}
          placeholder={hint}
          onChange={(event) => setValues({ ...values, [key]: event.target.value })}
        />
      ))}
      <Button size="small" htmlType="submit" loading={pending} data-testid={id}>
        {button}
      </Button>
    </form>
  );
}
