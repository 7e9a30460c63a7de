"""A W3C WebDriver client of a few lines: what a suite needs to open its browser where PANE_ENDPOINT says."""
import json
import os
import time
import urllib.request
from contextlib import contextmanager

ENDPOINT = os.environ.get("PANE_ENDPOINT", "http://127.0.0.1:9515")
BASE = os.environ.get("PANE_BASE", "http://127.0.0.1:7480")
# The endpoint is on this machine; the site is reached by the browser.
direct = urllib.request.build_opener(urllib.request.ProxyHandler({}))


def call(method, path, body=None):
    data = json.dumps(body or {}).encode() if method == "POST" else None
    with direct.open(urllib.request.Request(ENDPOINT + path, data, {"content-type": "application/json"}, method=method)) as answer:
        return json.load(answer)["value"]


class Browser:
    def __init__(self, at):
        self.at = at

    def visit(self, path):
        call("POST", self.at + "/url", {"url": BASE + path})

    def title(self):
        return call("GET", self.at + "/title")

    def shows(self, text):
        """Waits until the page has a text."""
        for _ in range(30):
            if text in call("GET", self.at + "/source"):
                return True
            time.sleep(0.1)
        return False

    def enter(self, css, text):
        element = next(iter(call("POST", self.at + "/element", {"using": "css selector", "value": css}).values()))
        call("POST", f"{self.at}/element/{element}/value", {"text": text})

    def click(self, css):
        element = next(iter(call("POST", self.at + "/element", {"using": "css selector", "value": css}).values()))
        call("POST", f"{self.at}/element/{element}/click")


@contextmanager
def browser(test):
    """Opens a browser for a test, by the test's name."""
    capabilities = {"alwaysMatch": {"pane:options": {"test": test}}}
    at = "/session/" + call("POST", "/session", {"capabilities": capabilities})["sessionId"]
    try:
        yield Browser(at)
    finally:
        call("DELETE", at)
