"""The entry in the desktop's menu and the file types, where freedesktop.org's standards want them."""

from __future__ import annotations

import shutil
import subprocess
import sys
from pathlib import Path

from platformdirs import user_data_dir

_ENTRY = """[Desktop Entry]
Type=Application
Name=Lithon
Comment=Get a solid to mesh
Exec="{python}" -m lithon %F
Categories=Science;Engineering;
MimeType=model/step;model/stl;model/obj;model/3mf;application/x-lithon-project;
Terminal=false
"""
_TYPES = """<?xml version="1.0" encoding="UTF-8"?>
<mime-info xmlns="http://www.freedesktop.org/standards/shared-mime-info">
  <mime-type type="model/step"><comment>STEP solid</comment><glob pattern="*.step"/><glob pattern="*.stp"/></mime-type>
  <mime-type type="application/x-lithon-project"><comment>Lithon project</comment><glob pattern="*.lithon"/></mime-type>
</mime-info>
"""


def install(base: Path | None = None) -> list[Path]:
    """Write both files for this user and tell the desktop; returns what was written."""
    share = base or Path(user_data_dir())
    files = {
        share / "applications" / "lithon.desktop": _ENTRY.format(python=sys.executable),
        share / "mime" / "packages" / "lithon.xml": _TYPES,
    }
    for path, text in files.items():
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, "utf-8")
    for tool, folder in (("update-desktop-database", "applications"), ("update-mime-database", "mime")):
        if shutil.which(tool):
            subprocess.run([tool, str(share / folder)], check=False, capture_output=True)
    return list(files)
