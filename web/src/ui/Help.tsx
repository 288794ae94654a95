/** A way into the help, which opens beside the page; nothing where there is no place. */
export function Help({ place, word = "more" }: { place?: string; word?: string }) {
  if (!place) return null;
  return (
    <a className="help small" href={`/help/${place}`} target="_blank" rel="noreferrer">
      {word}
    </a>
  );
}
