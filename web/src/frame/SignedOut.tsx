/** What stands where nobody is signed in: by name and password, or by a link. */
import { Button, Input } from "antd";
import { useState } from "react";
import { api, taken } from "../api/client";
import { Trouble } from "../ui/Trouble";

export function SignedOut() {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [error, setError] = useState<unknown>(null);
  const enter = async () => {
    try {
      await taken(api.POST("/api/sign-in/", { body: { name, password } }));
      location.reload();
    } catch (problem) {
      setError(problem);
    }
  };
  return (
    <main className="sheet-page">
      <h1>You are not signed in</h1>
      <form
        className="row sign-in"
        onSubmit={(event) => {
          event.preventDefault();
          void enter();
        }}
      >
        <Input
          value={name}
          aria-label="Name"
          placeholder="name"
          autoComplete="username"
          onChange={(event) => setName(event.target.value)}
        />
        <Input
          type="password"
          value={password}
          aria-label="Password"
          placeholder="password"
          autoComplete="current-password"
          onChange={(event) => setPassword(event.target.value)}
        />
        <Button type="primary" htmlType="submit" data-testid="sign-in">
          Sign in
        </Button>
      </form>
      <Trouble error={error} id="sign-in-problem" />
      <p className="quiet">
        No password yet? On your own machine run <code className="mono">./start</code> in Ivrell’s
        folder: it prints a link that signs you in once, and a fresh one while Ivrell is running. On
        a team’s server an owner gives you one.
      </p>
    </main>
  );
}
