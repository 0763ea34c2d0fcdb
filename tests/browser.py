"""The WebDriver protocol, as far as tests of pages need it."""
import base64
import json
import re
import shutil
import subprocess
import tempfile
import time
import urllib.error
import urllib.request


class Browser:
    """A browser with an empty profile. `shots`: the folder for pictures, or None."""

    def __init__(self, shots=None, more_flags=()):
        self.shots = shots
        self.profile = tempfile.mkdtemp(prefix="lathe-browser-")
        self.driver = subprocess.Popen(["chromedriver", "--port=0"], stdout=subprocess.PIPE, text=True)
        port = None
        for line in self.driver.stdout:
            found = re.search(r"on port (\d+)", line)
            if found and found.group(1) != "0":
                port = found.group(1)
                break
        self.base = f"http://127.0.0.1:{port}"
        flags = ["--headless=new", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
                 "--disable-component-update", "--disable-sync", "--window-size=1280,940", f"--user-data-dir={self.profile}", *more_flags]
        options = {"args": flags}
        reply = self.call("POST", "/session", {"capabilities": {"alwaysMatch": {"browserName": "chrome", "goog:chromeOptions": options,
                                                                                 "goog:loggingPrefs": {"browser": "ALL"}}}})
        self.session = "/session/" + reply["sessionId"]

    def call(self, method, path, body=None):
        data = None if body is None else json.dumps(body).encode()
        request = urllib.request.Request(self.base + path, data, {"Content-Type": "application/json"}, method=method)
        try:
            with urllib.request.urlopen(request, timeout=120) as reply:
                return json.load(reply)["value"]
        except urllib.error.HTTPError as e:
            raise RuntimeError(e.read().decode()[:500]) from None

    def open(self, path):
        """A file, or an address."""
        self.call("POST", self.session + "/url", {"url": path if isinstance(path, str) else "file://" + str(path.resolve())})
        time.sleep(0.3)

    def run(self, script, *values):
        return self.call("POST", self.session + "/execute/sync", {"script": script, "args": list(values)})

    def pointer(self, x, y, press=False):
        steps = [{"type": "pointerMove", "duration": 0, "x": int(x), "y": int(y)}]
        if press:
            steps += [{"type": "pointerDown", "button": 0}, {"type": "pointerUp", "button": 0}]
        self.call("POST", self.session + "/actions", {"actions": [{"type": "pointer", "id": "mouse", "parameters": {"pointerType": "mouse"},
                                                                      "actions": steps}]})

    def keys(self, text):
        steps = [{"type": kind, "value": c} for c in text for kind in ("keyDown", "keyUp")]
        self.call("POST", self.session + "/actions", {"actions": [{"type": "key", "id": "keys", "actions": steps}]})

    def log(self):
        return [e for e in self.call("POST", self.session + "/se/log", {"type": "browser"}) if e["level"] == "SEVERE"]

    def later(self, script, *values):
        """Of a script that ends with a promise, what it becomes."""
        wrapped = "const done = arguments[arguments.length - 1]; (async (...arguments_) => {" + script + "})(...arguments).then((v) => done({v}), (e) => done({e: String(e)}))"
        reply = self.call("POST", self.session + "/execute/async", {"script": wrapped, "args": list(values)})
        if "e" in reply:
            raise RuntimeError(reply["e"])
        return reply.get("v")

    def wait(self, script, seconds=30):
        """Until the script gives something that is true."""
        end = time.time() + seconds
        while time.time() < end:
            value = self.run(script)
            if value:
                return value
            time.sleep(0.1)
        raise RuntimeError(f"after {seconds} s still not: {script}")

    def upload(self, selector, path):
        element = self.call("POST", self.session + "/element", {"using": "css selector", "value": selector})
        self.call("POST", f"{self.session}/element/{next(iter(element.values()))}/value", {"text": str(path.resolve())})

    def shot(self, name):
        if self.shots:
            self.shots.mkdir(parents=True, exist_ok=True)
            (self.shots / name).write_bytes(base64.b64decode(self.call("GET", self.session + "/screenshot")))

    def scroll(self, selector, block="center"):
        self.run("document.querySelector(arguments[0]).scrollIntoView({block: arguments[1]})", selector, block)
        time.sleep(0.15)

    def middle(self, selector):
        return self.run("const r = document.querySelector(arguments[0]).getBoundingClientRect(); return [r.left + r.width / 2, r.top + r.height / 2]",
                        selector)

    def close(self):
        try:
            self.call("DELETE", self.session)
        finally:
            self.driver.terminate()
            shutil.rmtree(self.profile, ignore_errors=True)
