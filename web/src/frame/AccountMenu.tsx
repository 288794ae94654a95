/** Who is signed in, this machine, signing out. Loaded after the page: menus weigh much. */
import { UserOutlined } from "@ant-design/icons";
import { Button, Dropdown } from "antd";
import { Link } from "react-router";

export default function AccountMenu({ user }: { user: string }) {
  return (
    <Dropdown
      trigger={["click"]}
      menu={{
        items: [
          { key: "who", disabled: true, label: `Signed in as ${user}` },
          { key: "people", label: <Link to="/people">People and tokens</Link> },
          { key: "machine", label: <Link to="/machine">This machine</Link> },
          { key: "out", label: "Sign out", onClick: () => void signOut() },
        ],
      }}
    >
      <Button type="text" icon={<UserOutlined />} aria-label="Account" />
    </Dropdown>
  );
}

async function signOut() {
  const token = /ivrell_csrf_\d*=([^;]+)/.exec(document.cookie)?.[1] ?? "";
  await fetch("/leave", { method: "POST", headers: { "X-CSRFToken": token } });
  location.assign("/");
}
