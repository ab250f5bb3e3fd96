"""One HTML file of a scene: page, viewer and data together, so that it opens anywhere without a network."""

from __future__ import annotations

import json
from importlib.resources import files
from typing import Any

_PAGE = """<!DOCTYPE html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<meta http-equiv="Content-Security-Policy" content="default-src 'none'; script-src 'unsafe-inline'; style-src 'unsafe-inline'; img-src data: blob:">
<title>Scene</title>
<style>
:root { --ink: #24221e; --faint: #736c60; --line: #cfc9bd; --panel: #fbfaf7; --lit: #d97b06; }
* { box-sizing: border-box; }
html, body { height: 100%; margin: 0; }
body { display: flex; font: 14px/1.45 "DejaVu Sans", system-ui, sans-serif; color: var(--ink); background: var(--panel); }
#panel { width: 290px; flex: none; overflow-y: auto; padding: 16px; border-right: 1px solid var(--line); }
body.alone #panel { display: none; }
#stage { flex: 1; min-width: 0; display: flex; flex-direction: column; position: relative; }
#view { flex: 1; min-height: 0; position: relative; overflow: hidden; }
#words { position: absolute; inset: 0; pointer-events: none; overflow: hidden; }
.label { position: absolute; transform: translate(-50%, -50%); white-space: nowrap; font-size: 11px; text-shadow: 0 0 3px #fff, 0 0 3px #fff, 0 0 2px #fff; }
#looking, #read { position: absolute; left: 12px; pointer-events: none; font-size: 12px; background: #fbfaf7d9; padding: 1px 6px; border-radius: 3px; }
#looking { bottom: 8px; color: var(--faint); }
#read { top: 8px; font-weight: 600; }
#read:empty { display: none; }
#walk { display: flex; gap: 12px; align-items: center; padding: 10px 14px; border-top: 1px solid var(--line); }
#walk[hidden] { display: none; }
#caption { flex: 1; font-size: 15px; white-space: pre-line; }
h1 { font-size: 18px; margin: 0 0 14px; }
h2 { font-size: 13px; margin: 18px 0 6px; color: var(--faint); font-weight: 600; }
h3 { font-size: 12px; margin: 12px 0 4px; }
#layers label { display: flex; gap: 8px; align-items: center; padding: 2px 0; }
#stops { display: flex; flex-direction: column; gap: 4px; }
button { font: inherit; text-align: left; padding: 5px 9px; border: 1px solid var(--line); border-radius: 4px; background: #fff; color: inherit; cursor: pointer; }
button[aria-pressed="true"] { border-color: var(--lit); box-shadow: inset 3px 0 0 var(--lit); }
button:focus-visible, input:focus-visible { outline: 2px solid var(--lit); outline-offset: 1px; }
.ramp { height: 12px; border: 1px solid var(--line); }
.ticks { display: flex; justify-content: space-between; font-size: 11px; color: var(--faint); }
.class { display: flex; gap: 8px; align-items: center; font-size: 12px; }
.class i { width: 22px; height: 12px; border: 1px solid #0003; flex: none; }
#foot { margin-top: 18px; font-size: 11px; color: var(--faint); }
@media (max-width: 700px) { body { flex-direction: column-reverse; } #panel { width: auto; max-height: 38%; border: 0; border-top: 1px solid var(--line); } }
</style>
</head>
<body>
<aside id="panel">
<h1 id="title"></h1>
<div id="stops"></div>
<h2>Shown</h2>
<div id="layers"></div>
<h2>Legend</h2>
<div id="legend"></div>
<p id="foot">Drag turns, Shift and drag shifts, the wheel zooms. The record under the pointer is read out.</p>
</aside>
<main id="stage">
<div id="view"><div id="words"></div><div id="read" role="status"></div><div id="looking"></div></div>
<div id="walk"><button id="panel-switch" type="button" title="Show or hide the panel">☰</button><span id="caption"></span><span id="count"></span><button id="back" type="button" title="Page Up">Back</button><button id="next" type="button" title="Page Down">Next</button></div>
</main>
<script type="application/json" id="scene">@SCENE@</script>
<script>@VIEWER@</script>
</body>
</html>
"""


def page_of(scene: dict[str, Any]) -> str:
    """Return the whole page of a scene's data; nothing in the data can end the script that holds it."""
    viewer = files("innerlamp.app.written").joinpath("viewer", "viewer.js").read_text(encoding="utf-8")
    data = json.dumps(scene, ensure_ascii=True, allow_nan=False).replace("<", "\\u003c")
    before, rest = _PAGE.split("@SCENE@")
    between, after = rest.split("@VIEWER@")
    return before + data + between + viewer.replace("</script", "<\\/script") + after
