/** A sentence with what it holds for, to be passed on. */
import { CopyOutlined } from "@ant-design/icons";
import { App, Button, Tooltip } from "antd";

type Props = {
  /** What is copied. */
  text: string;
  /** What it is, such as "conclusion". */
  what: string;
};

export function Copy({ text, what }: Props) {
  const { message } = App.useApp();
  return (
    <Tooltip title={`Copy the ${what} with its conditions`}>
      <Button
        size="small"
        type="text"
        className="copy"
        icon={<CopyOutlined />}
        aria-label={`Copy the ${what}`}
        onClick={() =>
          void navigator.clipboard.writeText(text).then(() => message.success("Copied"))
        }
      />
    </Tooltip>
  );
}

/** A sentence and where it was found, as one text. */
export function withConditions(words: string, conditions: string[]): string {
  return conditions.length ? `${words} Measured at ${conditions.join(", ")}.` : words;
}
