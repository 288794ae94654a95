"""What axe-core finds against the Web Content Accessibility Guidelines 2.1, levels A and AA."""

from pathlib import Path

from tests.support.browser import Browser

_SCRIPT = Path(__file__).resolve().parents[2] / "web/node_modules/axe-core/axe.min.js"
_RULES = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa"]
_RUN = """
const [rules, done] = arguments;
axe.run(document, { runOnly: { type: "tag", values: rules } }).then((found) => done(
  found.violations.flatMap((rule) => rule.nodes.map((node) =>
    `${rule.id}: ${node.target.join(" ")} ${node.html.slice(0, 110)} | ` +
    (node.any[0]?.message ?? node.all[0]?.message ?? node.none[0]?.message ?? rule.help)
  ))
));
"""


def violations(browser: Browser) -> list[str]:
    """A line for each thing on the page as it stands that breaks a rule."""
    driver = browser.driver
    driver.set_script_timeout(60)
    if not driver.execute_script("return typeof axe === 'object'"):
        driver.execute_script(_SCRIPT.read_text(encoding="utf-8"))
    return list(driver.execute_async_script(_RUN, _RULES))
