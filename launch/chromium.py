"""How headless Chromium is started, for the browser tests and the pictures of the documentation."""

CHROMIUM = "/usr/bin/chromium"
ARGUMENTS = [
    "--no-sandbox",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--enable-unsafe-swiftshader",
]
SIZE = {"width": 1280, "height": 800}
