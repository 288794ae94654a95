/** The slim bar on top, and the page below it. */
import { MoonOutlined, QuestionCircleOutlined, SunOutlined } from "@ant-design/icons";
import { Button, Tooltip } from "antd";
import { lazy, Suspense, useState } from "react";
import { Link, Outlet, useLocation, useMatch } from "react-router";
import { Problem } from "../api/client";
import { useComparison, useNow } from "../api/queries";
import { setMode, useMode } from "../ui/theme";
import { Doing } from "./Doing";
import { SignedOut } from "./SignedOut";

function Name({ id }: { id: number }) {
  const { data } = useComparison(id);
  return <span className="of cut">{data?.name}</span>;
}

/** Where the help tells of the view that is open: each has a heading of its name. */
function useHelpHere(): string {
  const [, first, , step] = useLocation().pathname.split("/");
  const view = first === "comparisons" ? step : first;
  return view ? `guide/#${view}` : "";
}

const AccountMenu = lazy(() => import("./AccountMenu"));

export function Frame() {
  const mode = useMode();
  const now = useNow();
  const open = useMatch("/comparisons/:id/*");
  // While it is asked again there is no error: who is typing a password is not interrupted.
  const [signedOut, setSignedOut] = useState(false);
  const refused = now.error instanceof Problem && [401, 403].includes(now.error.status);
  if (refused && !signedOut) setSignedOut(true);
  if (now.data && !refused && signedOut) setSignedOut(false);
  return (
    <div className="frame">
      <header className="topbar">
        <Link to="/" className="mark" aria-label="Ivrell, all comparisons">
          <svg width="24" height="24" viewBox="0 0 24 24" aria-hidden="true">
            <path
              d="M3 6h17M3 12h11M3 18h14"
              stroke="var(--ink)"
              strokeWidth="2"
              strokeLinecap="round"
            />
            <circle cx="14" cy="12" r="3" fill="var(--lane-1)" />
          </svg>
          Ivrell
        </Link>
        {open?.params.id && !signedOut && <Name id={Number(open.params.id)} />}
        <span className="grow" />
        {!signedOut && <Doing />}
        <Tooltip title="Help">
          <Button
            type="text"
            aria-label="Help"
            href={`/help/${useHelpHere()}`}
            target="_blank"
            icon={<QuestionCircleOutlined />}
          />
        </Tooltip>
        <Tooltip title={mode === "dark" ? "Light theme" : "Dark theme"}>
          <Button
            type="text"
            aria-label={mode === "dark" ? "Light theme" : "Dark theme"}
            icon={mode === "dark" ? <SunOutlined /> : <MoonOutlined />}
            onClick={() => setMode(mode === "dark" ? "light" : "dark")}
          />
        </Tooltip>
        {now.data && (
          <Suspense fallback={null}>
            <AccountMenu user={now.data.user} />
          </Suspense>
        )}
      </header>
      {signedOut ? <SignedOut /> : <Outlet />}
    </div>
  );
}
