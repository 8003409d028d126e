/** What every answer carries: own code only, no frame, nothing kept. A page's own policy takes the place of this one (astro.config.ts). */
const HEADERS: Readonly<Record<string, string>> = {
  'content-security-policy':
    "default-src 'none'; script-src 'self'; connect-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'",
  'x-content-type-options': 'nosniff',
  'referrer-policy': 'no-referrer',
  'cross-origin-opener-policy': 'same-origin',
  'cross-origin-resource-policy': 'same-origin',
  'permissions-policy':
    'accelerometer=(), browsing-topics=(), camera=(), display-capture=(), geolocation=(), gyroscope=(), hid=(), magnetometer=(), microphone=(), midi=(), payment=(), serial=(), usb=()',
  // Files that never change say otherwise.
  'cache-control': 'no-store',
};

/** @param origin where the instance is reached from outside, if that was set. */
export function securityHeaders(origin: string | undefined): Record<string, string> {
  return { ...HEADERS, ...(origin?.startsWith('https:') ? { 'strict-transport-security': 'max-age=31536000' } : {}) };
}
