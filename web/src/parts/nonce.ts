/** What the policy of this page allows its style elements by; the server gives each page another. */
export const nonce = document.querySelector<HTMLMetaElement>("meta[name=csp-nonce]")?.content ?? "";
