import { Select } from "antd";

/** A choice within the sentence above a drawing. */
export function Choice<T extends string>(props: {
  label: string;
  value: NoInfer<T>;
  options: { value: T; label: string }[];
  onChange: (value: NoInfer<T>) => void;
}) {
  return (
    <Select
      variant="underlined"
      size="small"
      popupMatchSelectWidth={false}
      aria-label={props.label}
      value={props.value}
      options={props.options}
      onChange={props.onChange}
    />
  );
}
