#!/usr/bin/env python3
"""A chart with hidden rocks that answers Fendle: JSON-RPC 2.0 on standard input and output, one message a line.

    fendle compare reef.toml --game "python3 reef.py"

With --mistake NAME it has one of the mistakes that games of this kind have:
  corner     a number does not count the rock at the lower right of its cell
  shimmer    the player is told how many rocks lie in the open cells' rows, which the rules do not tell
  hint       a list of allowed moves leaves out the rocks
"""
import json
import sys

mistake = sys.argv[sys.argv.index("--mistake") + 1] if "--mistake" in sys.argv else None
START = ["-^--", "----", "---^"]


class Game:
    def begin(self):
        return self.place({"boards": {"chart": START}})

    def place(self, position):
        rows = position["boards"]["chart"]
        self.cells = {(r, c): rows[r][c] for r in range(len(rows)) for c in range(len(rows[0]))}
        self.rows, self.cols = len(rows), len(rows[0])
        self.rocks = {x for x, glyph in self.cells.items() if glyph in "^*"}
        self.seen = {x for x, glyph in self.cells.items() if glyph in ".*"}
        # A game that has ended by a move is told so.
        self.struck = "ended" in position.get("values", {})
        return self.told()

    def near(self, x):
        return [(x[0] + dr, x[1] + dc) for dr in (-1, 0, 1) for dc in (-1, 0, 1) if (dr or dc) and (x[0] + dr, x[1] + dc) in self.cells]

    def number(self, x):
        ends = (x[0] + 1, x[1] + 1) if mistake == "corner" else None
        return sum(n in self.rocks and n != ends for n in self.near(x))

    def glyph(self, x):
        return ("*" if x in self.rocks else ".") if x in self.seen else "^" if x in self.rocks else "-"

    def status(self):
        return "lost" if self.struck else "won" if len(self.seen) == len(self.cells) - len(self.rocks) else "running"

    def told(self, **more):
        def grid(of):
            return [[of((r, c)) for c in range(self.cols)] for r in range(self.rows)]

        player = {"near": grid(lambda x: str(self.number(x)) if x in self.seen else "~")}
        if mistake == "shimmer":
            player["rows"] = [sum((r, c) in self.rocks for c in range(self.cols)) for r in sorted({r for r, _ in self.seen})]
        return {"position": {"boards": {"chart": grid(self.glyph)}}, "status": self.status(), "told": player, **more}

    def open(self, x):
        todo = [x]
        while todo:
            cell = todo.pop()
            if cell not in self.seen:
                self.seen.add(cell)
                if self.number(cell) == 0:
                    todo.extend(self.near(cell))

    def allowed(self):
        if self.status() != "running":
            return []
        left = [x for x in self.cells if x not in self.seen and not (mistake == "hint" and x in self.rocks)]
        return [f"sound r{r + 1}c{c + 1}" for r, c in left]

    def move(self, name):
        row, col = name.split(" r")[1].split("c")
        x = (int(row) - 1, int(col) - 1)
        if self.status() != "running" or x in self.seen:
            return self.told(allowed=False)
        if x in self.rocks:
            self.struck = True
        else:
            self.open(x)
        return self.told(allowed=True)


def serve():
    game = Game()
    answers = {
        "about": lambda p: {"name": "reef", "places": True, "tells_allowed": True},
        "begin": lambda p: game.begin(),
        "place": lambda p: game.place(p["position"]),
        "move": lambda p: game.move(p["move"]),
        "allowed": lambda p: {"moves": game.allowed()},
    }
    for line in sys.stdin:
        request = json.loads(line)
        answer = answers.get(request["method"])
        body = {"result": answer(request.get("params", {}))} if answer else {"error": {"code": -32601, "message": "no such method"}}
        print(json.dumps({"jsonrpc": "2.0", "id": request["id"], **body}), flush=True)


if __name__ == "__main__":
    serve()
