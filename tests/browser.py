"""A headless Chromium of the machine, for tests of pages; skipped, and said so, where none is."""

import shutil
import tempfile
import unittest

try:
    from selenium import webdriver
    from selenium.webdriver.chrome.options import Options
    from selenium.webdriver.chrome.service import Service
except ImportError:  # the tests of an installed package may lack it
    webdriver = None

CHROMIUM = (
    shutil.which("chromium") or shutil.which("chromium-browser") or shutil.which("google-chrome")
)
DRIVER = shutil.which("chromedriver")
THERE = bool(webdriver and CHROMIUM and DRIVER)
needs_browser = unittest.skipUnless(THERE, "no Chromium with its driver, or no selenium")
FLAGS = (
    *("--headless=new", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run"),
    *("--disable-background-networking", "--disable-component-update", "--disable-sync"),
    *("--disable-dev-shm-usage", "--force-device-scale-factor=1", "--hide-scrollbars"),
)


class Browser:
    """One browser with an empty profile, closed with the test class."""

    def __init__(self, *flags, size=(1280, 800), script=True):
        self._profile = tempfile.TemporaryDirectory()
        options = Options()
        options.binary_location = CHROMIUM
        for flag in (*FLAGS, *flags, f"--window-size={size[0]},{size[1]}", f"--user-data-dir={self._profile.name}"):  # fmt: skip
            options.add_argument(flag)
        if not script:
            options.add_experimental_option(
                "prefs", {"profile.managed_default_content_settings.javascript": 2}
            )
        options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
        self.driver = webdriver.Chrome(options=options, service=Service(DRIVER))
        self.driver.set_page_load_timeout(60)
        self.resize(*size)

    def resize(self, width, height):
        """Make the viewport this large: the window has a frame of its own."""
        self.driver.execute_cdp_cmd(
            "Emulation.setDeviceMetricsOverride",
            {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": False},
        )

    def run(self, script, *arguments):
        return self.driver.execute_script(script, *arguments)

    def errors(self):
        """What the page complained of since the last time."""
        return [
            one["message"] for one in self.driver.get_log("browser") if one["level"] == "SEVERE"
        ]

    def close(self):
        self.driver.quit()
        self._profile.cleanup()
