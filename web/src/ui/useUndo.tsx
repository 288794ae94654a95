/** What was done, in words, with a way back for ten seconds. */
import { App, Button } from "antd";

export function useUndo() {
  const { message } = App.useApp();
  return (key: string, words: string, back: () => void) => {
    const undo = () => {
      message.destroy(key);
      back();
    };
    void message.open({
      key,
      duration: 10,
      content: (
        <>
          {words}{" "}
          <Button type="link" size="small" onClick={undo}>
            Undo
          </Button>
        </>
      ),
    });
  };
}
