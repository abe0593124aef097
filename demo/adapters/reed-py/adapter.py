"""An adapter for the boards of Saltmarsh, in Python with its standard library."""

import base64
import json
import os
import queue
import socket
import sys
import threading


class Refused(Exception):
    """What a request is answered with that cannot be done."""

    def __init__(self, text, code=1, kind="failed"):
        super().__init__(text)
        self.code, self.kind = code, kind


writing = threading.Lock()


def send(**message):
    with writing:
        sys.stdout.write(json.dumps({"jsonrpc": "2.0", **message}) + "\n")
        sys.stdout.flush()


class Board:
    """A board on a serial line, or on the network."""

    def __init__(self, candidate, adapter):
        if candidate["kind"] == "network":
            s = socket.create_connection((candidate["address"], candidate["port"]), timeout=5)
            s.settimeout(None)
            s.setsockopt(socket.SOL_SOCKET, socket.SO_KEEPALIVE, 1)
            self.line = s.makefile("rwb", buffering=0)
            self.link = "network"
        else:
            self.line = open(candidate["path"], "r+b", buffering=0)
            self.link = "serial line"
        self.adapter = adapter
        self.answers = queue.Queue()
        self.asking = threading.Lock()
        threading.Thread(target=self.listen, daemon=True).start()
        words = self.ask("who")[0].split()
        if words[0] != "reed":
            raise Refused("it is no reed")
        self.model, self.serial, self.release, self.battery = words[1:5]

    def listen(self):
        rest = b""
        try:
            while piece := self.line.read(4096):
                *lines, rest = (rest + piece).split(b"\n")
                for line in lines:
                    self.take(line.decode("utf-8", "replace"))
        except OSError:
            pass
        self.answers.put(None)
        self.adapter.gone()

    def take(self, line):
        if line.startswith("= "):
            self.answers.put(line[2:])
        elif line.startswith("- "):
            kind, seq, app, text = (line[2:] + "    ").split(" ", 3)
            self.adapter.log(kind, int(seq), app, text[:-4])

    def ask(self, *lines):
        with self.asking:
            self.line.write("".join(line + "\n" for line in lines).encode())
            said = []
            while True:
                answer = self.answers.get(timeout=5)
                if answer is None:
                    raise Refused("the line has ended", kind="gone")
                said.append(answer)
                if answer.split(" ")[0] in ("ok", "no", "reed"):
                    break
        if said[-1].startswith("no"):
            raise Refused("the board says: " + said[-1][3:])
        return said


class Adapter:
    def __init__(self):
        self.board = None
        self.facts_id = None
        self.logging = {}  # the ids of requests for the log, by job

    def hello(self, request, params):
        names = ["app.list", "app.install", "app.start", "app.stop", "app.remove", "log", "find"]
        facts = [("device.release", "release"), ("device.battery", "int"), ("reed.link", "text")]
        actions = [{"name": n} for n in names]
        schema = {"type": "object", "properties": {"text": {"type": "string", "maxLength": 40}}, "required": ["text"], "additionalProperties": False}
        actions.append({"name": "board.label", "about": "Write a label onto the board's display", "args": schema})
        return {"name": "reed-py", "version": "1", "facts": [{"key": k, "type": t} for k, t in facts], "actions": actions}

    def candidate(self, request, params):
        if params.get("path") == "/dev/null":
            return {"fit": 0}
        try:
            self.board = Board(params, self)
        except (OSError, Refused, queue.Empty):
            return {"fit": 0}
        return {"fit": 100, "model": "reed-" + self.board.model, "serial": self.board.serial}

    def facts(self, request, params):
        self.facts_id = request
        for key, value in (("device.release", self.board.release), ("device.battery", int(self.board.battery)), ("reed.link", self.board.link)):
            send(method="fact", params={"device": params["device"], "key": key, "value": value})
        return ...  # answered once the board is gone

    def gone(self):
        if self.facts_id is not None:
            send(id=self.facts_id, result=None)

    def log(self, kind, seq, app, text):
        for job in list(self.logging):
            line = {"job": job, "seq": seq, "app": app, "text": text}
            if kind == "end":
                code, reason = text.split()
                line["ended"] = {"code": int(code), "reason": reason}
            send(method="line", params=line)

    def stop(self, request, params):
        if (waiting := self.logging.pop(params["job"], None)) is not None:
            send(id=waiting, result=None)
        return ...

    def act(self, request, params):
        args, action = params["args"], params["action"]
        if action == "app.list":
            apps = [line.split(" ", 5) for line in self.board.ask("list")[:-1]]
            return [{"id": a[1], "version": a[2], "digest": a[3], "running": a[4] == "running", "name": a[5]} for a in apps]
        if action == "app.install":
            with open(os.path.join(args["dir"], "files", args["entry"]), "rb") as f:
                text = base64.encodebytes(f.read()).decode().splitlines()
            self.board.ask("take {id} {version} {digest} {name}".format(**args), *text, ".")
            return None
        if action == "app.start":
            return {"after": int(self.board.ask("start " + args["id"])[0].split()[1])}
        if action in ("app.stop", "app.remove"):
            self.board.ask(("stop " if action == "app.stop" else "drop ") + args["id"])
            return None
        if action == "board.label":
            self.board.ask("handle " + args["text"])
            return {"shown": args["text"]}
        if action == "find":
            self.board.ask("handle " + args["handle"])
            return None
        if action == "log":
            self.logging[params["job"]] = request
            self.board.ask("again %d" % args["after"])
            return ...
        raise Refused("the action is not known")

    def do(self, message):
        request = message.get("id")
        try:
            method = {"hello": self.hello, "candidate": self.candidate, "facts": self.facts, "act": self.act, "stop": self.stop}.get(message["method"])
            if method is None:
                raise Refused("there is no such method", code=-32601)
            result = method(request, message.get("params", {}))
            if result is not ...:
                send(id=request, result=result)
        except Refused as e:
            send(id=request, error={"code": e.code, "message": str(e), "data": {"kind": e.kind}})


adapter = Adapter()
for line in sys.stdin:
    adapter.do(json.loads(line))
