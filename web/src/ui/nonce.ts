/** This page's nonce, for the style sheets that libraries make. */
export function nonce(): string {
  const tag = document.querySelector<HTMLMetaElement>('meta[property="csp-nonce"]');
  return tag?.nonce || tag?.getAttribute("nonce") || "";
}
