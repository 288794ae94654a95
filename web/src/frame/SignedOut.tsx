export function SignedOut() {
  return (
    <main className="sheet-page">
      <h1>You are not signed in</h1>
      <p>
        Run <code className="mono">./start</code> in Ivrell’s folder. It prints a link that signs
        you in once; while Ivrell is running it prints a fresh one.
      </p>
    </main>
  );
}
