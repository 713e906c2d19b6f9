"""Make the two wheels of tidetext, without any tool: a wheel is a zip file with a description.

usage: python make_wheels.py
"""

import base64
import hashlib
import zipfile
from pathlib import Path

HEAD = '"""Notices as text."""\n\n'
MAIN = (
    "import sys\n\nfrom tidetext import notice\n\nfor number in range(int(sys.argv[1])):\n    print(notice(number))\n"
)
OLD = (
    HEAD
    + '''
def notice(number):
    """Return a notice: found by replacing one word after another."""
    text = "Ship SHIP: berth BERTH, at HOUR:MINUTE. Depth DEPTH m."
    words = {"SHIP": number, "BERTH": number % 12, "HOUR": f"{number % 24:02d}", "MINUTE": f"{number % 60:02d}"}
    for word, value in [*words.items(), ("DEPTH", 6.4)]:
        text = "".join(str(value) if part == word else part for part in _parts(text))
    return text


def _parts(text):
    """Return words and what lies between them, one character at a time."""
    found = [""]
    for letter in text:
        if found[-1] and letter.isalnum() == found[-1][-1].isalnum():
            found[-1] += letter
        else:
            found.append(letter)
    return found
'''
)
NEW = (
    HEAD
    + '''
def notice(number):
    """Return a notice."""
    return f"Ship {number}: berth {number % 12}, at {number % 24:02d}:{number % 60:02d}. Depth 6.4 m."
'''
)
METADATA = "Metadata-Version: 2.1\nName: tidetext\nVersion: {version}\n"
WHEEL = "Wheel-Version: 1.0\nGenerator: make_wheels\nRoot-Is-Purelib: true\nTag: py3-none-any\n"


def main():
    """Do what the name of this file says."""
    target = Path(__file__).with_name("wheels")
    for version, source in (("1.0", OLD), ("2.0", NEW)):
        about = f"tidetext-{version}.dist-info"
        files = {
            "tidetext/__init__.py": source,
            "tidetext/__main__.py": MAIN,
            f"{about}/METADATA": METADATA.format(version=version),
            f"{about}/WHEEL": WHEEL,
        }
        lines = []
        for name, text in files.items():
            digest = base64.urlsafe_b64encode(hashlib.sha256(text.encode()).digest()).rstrip(b"=").decode()
            lines.append(f"{name},sha256={digest},{len(text.encode())}")
        files[f"{about}/RECORD"] = "\n".join([*lines, f"{about}/RECORD,,"]) + "\n"
        with zipfile.ZipFile(target / f"tidetext-{version}-py3-none-any.whl", "w") as wheel:
            for name, text in files.items():
                wheel.writestr(zipfile.ZipInfo(name, (2026, 1, 1, 0, 0, 0)), text)


if __name__ == "__main__":
    main()
