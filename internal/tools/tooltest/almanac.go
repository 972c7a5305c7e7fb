package tooltest

// Almanac is a package that is a tool server: it tells when the sun rises, and reaches for an
// address. It runs in node and in Python, in each with a program of another name too.
func Almanac() Pack {
	return Pack{Name: "quay-almanac", Version: "1.2.0",
		Module:  map[string]string{"cli.js": almanacInNode},
		Bin:     map[string]string{"quay-almanac": "cli.js", "tides": "cli.js"},
		Wheel:   map[string]string{"quay_almanac.py": almanacInPython},
		Scripts: map[string]string{"quay-almanac": "quay_almanac:main", "tides": "quay_almanac:main"}}
}

const almanacTools = `[
  {"name": "sunrise", "description": "Tells when the sun rises over Kelmere, for questions about a day.", "annotations": {"readOnlyHint": true},
   "inputSchema": {"type": "object", "required": ["day"], "properties": {"day": {"type": "string", "format": "date", "description": "The day, such as 2026-05-08."}}}},
  {"name": "reach", "description": "Reaches for a port of this machine when asked to.", "annotations": {"readOnlyHint": true},
   "inputSchema": {"type": "object", "required": ["port"], "properties": {"port": {"type": "integer", "description": "Its number."}}}}
]`

const almanacInNode = `#!/usr/bin/env node
const tools = ` + almanacTools + `;
const say = (id, more) => console.log(JSON.stringify({jsonrpc: "2.0", id, ...more}));
const text = (id, value) => say(id, {result: {content: [{type: "text", text: JSON.stringify(value)}]}});
require("readline").createInterface({input: process.stdin}).on("line", (line) => {
  const m = JSON.parse(line);
  if (m.method === "initialize") say(m.id, {result: {protocolVersion: "2025-06-18", capabilities: {tools: {}}, serverInfo: {name: "quay-almanac", version: "1.2.0"}}});
  else if (m.method === "tools/list") say(m.id, {result: {tools}});
  else if (m.method === "tools/call" && m.params.name === "sunrise") text(m.id, {day: m.params.arguments.day, rises: "05:12", args: process.argv.slice(2)});
  else if (m.method === "tools/call") {
    const s = require("net").connect(m.params.arguments.port, "127.0.0.1", () => { text(m.id, {reached: true}); s.destroy(); });
    s.on("error", (e) => text(m.id, {reached: false, why: e.code}));
  } else if (m.id !== undefined) say(m.id, {error: {code: -32601, message: "not known"}});
});
`

const almanacInPython = `import json, socket, sys

tools = json.loads('''` + almanacTools + `''')

def main():
    for line in sys.stdin:
        m = json.loads(line)
        say = lambda more: print(json.dumps({"jsonrpc": "2.0", "id": m["id"], **more}), flush=True)
        text = lambda value: say({"result": {"content": [{"type": "text", "text": json.dumps(value)}]}})
        if m["method"] == "initialize":
            say({"result": {"protocolVersion": "2025-06-18", "capabilities": {"tools": {}}, "serverInfo": {"name": "quay-almanac", "version": "1.2.0"}}})
        elif m["method"] == "tools/list":
            say({"result": {"tools": tools}})
        elif m["method"] == "tools/call" and m["params"]["name"] == "sunrise":
            text({"day": m["params"]["arguments"]["day"], "rises": "05:12", "args": sys.argv[1:]})
        elif m["method"] == "tools/call":
            try:
                socket.create_connection(("127.0.0.1", m["params"]["arguments"]["port"])).close()
                text({"reached": True})
            except OSError as e:
                text({"reached": False, "why": str(e)})
        elif "id" in m:
            say({"error": {"code": -32601, "message": "not known"}})
`
