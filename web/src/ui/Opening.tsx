/** Says that what belongs here is on its way, once that takes long enough to be noticed. */
export function Opening({ what }: { what?: string }) {
  return (
    <p className="opening faint" role="status">
      Opening{what ? ` ${what}` : ""} …
    </p>
  );
}
