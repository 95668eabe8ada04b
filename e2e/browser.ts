// Debian's Chromium, without a monitor and without a network beyond the loopback.

export const browser = {
  viewport: { width: 1280, height: 800 },
  locale: 'en-GB',
  timezoneId: 'Europe/Oslo',
  launchOptions: {
    // Scroll bars take their room, as they do for people.
    ignoreDefaultArgs: ['--hide-scrollbars'],
    executablePath: process.env.HAVREL_CHROMIUM ?? '/usr/bin/chromium',
    args: [
      '--no-sandbox',
      '--disable-gpu',
      '--disable-quic',
      '--no-first-run',
      '--disable-background-networking',
      '--disable-component-update',
      '--disable-sync',
    ],
  },
};
