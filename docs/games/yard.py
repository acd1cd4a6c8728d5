#!/usr/bin/env python3
"""A small pushing game that answers Fendle: JSON-RPC 2.0 on standard input and output, one message a line.

    fendle compare yard.toml --game "python3 yard.py"

With --mistake NAME it has one of the mistakes that games of this kind have; `--mistakes` lists them.
"""
import json
import sys

MISTAKES = {
    "walks-through": "the agent walks through walls of the last column but one",
    "pushes-two": "two bodies in a row are pushed",
    "sticky": "a refused push moves the agent all the same",
    "late": "the game is won one move late",
    "first-berth": "one berth that is filled is enough",
    "leftover": "a new beginning leaves the agent where it was",
    "noise": "something is printed on the way",
    "crash": "it ends at the first push to the left",
}
mistake = None
if "--mistake" in sys.argv:
    mistake = sys.argv[sys.argv.index("--mistake") + 1]
    if mistake not in MISTAKES:
        sys.exit(f"no mistake is named {mistake}")

START = ["HHHHHHH", "H..._.H", "H.oA..H", "H.....H", "HHHHHHH"]
STEPS = {"up": (-1, 0), "right": (0, 1), "down": (1, 0), "left": (0, -1)}


class Game:
    def read(self, rows):
        self.rows, self.cols = len(rows), len(rows[0])
        cells = {(r, c): rows[r][c] for r in range(self.rows) for c in range(self.cols)}
        self.walls = {x for x, glyph in cells.items() if glyph == "H"}
        self.berths = {x for x, glyph in cells.items() if glyph in "_QR"}
        self.bodies = {x for x, glyph in cells.items() if glyph in "oQ"}
        self.at = next(x for x, glyph in cells.items() if glyph in "AR")
        self.was_won = False

    def place(self, position):
        self.read(["".join(row) for row in position["boards"]["yard"]])
        return self.told()

    def is_won(self):
        enough = any if mistake == "first-berth" else all
        return enough(x in self.bodies for x in self.berths)

    def told(self, **more):
        def glyph(x):
            if x in self.walls:
                return "H"
            if x == self.at:
                return "R" if x in self.berths else "A"
            if x in self.bodies:
                return "Q" if x in self.berths else "o"
            return "_" if x in self.berths else "."

        rows = ["".join(glyph((r, c)) for c in range(self.cols)) for r in range(self.rows)]
        won = self.is_won()
        if mistake == "late":
            won, self.was_won = self.was_won, won
        return {"position": {"boards": {"yard": rows}}, "status": "won" if won else "running", **more}

    def can(self, name):
        other = Game()
        other.__dict__.update(self.__dict__, bodies=set(self.bodies))
        return other.move(name)["allowed"]

    def allowed(self):
        return [f"go {step}" for step in STEPS if mistake != "crash" and self.can(f"go {step}")]

    def move(self, name, draws=()):
        if self.is_won() and mistake != "late":
            return self.told(allowed=False)
        dr, dc = STEPS[name.split()[1]]
        to = (self.at[0] + dr, self.at[1] + dc)
        beyond = (to[0] + dr, to[1] + dc)
        wall = to in self.walls and not (mistake == "walks-through" and to[1] == self.cols - 1 and 0 < to[0] < self.rows - 1)
        if wall:
            return self.told(allowed=False)
        if to in self.bodies:
            if mistake == "crash" and name == "go left":
                sys.exit(3)
            if mistake == "pushes-two" and beyond in self.bodies:
                last = (beyond[0] + dr, beyond[1] + dc)
                if last not in self.walls and last not in self.bodies:
                    self.bodies.remove(to)
                    self.bodies.add(last)
                    self.at = to
                    return self.told(allowed=True)
            if beyond in self.walls or beyond in self.bodies:
                if mistake == "sticky":
                    self.at = to
                    self.bodies.discard(to)
                return self.told(allowed=False)
            self.bodies.remove(to)
            self.bodies.add(beyond)
        self.at = to
        return self.told(allowed=True)


def answer(game, method, params):
    if mistake == "noise" and method == "move":
        print("moving")
    if method == "about":
        return {"name": "yard", "places": mistake not in ("leftover", "late"), "tells_allowed": True}
    if method == "begin":
        at = getattr(game, "at", None)
        game.read(START)
        if mistake == "leftover" and at:
            game.at = at
        return game.told()
    if method == "place":
        return game.place(params["position"])
    if method == "move":
        return game.move(params["move"])
    if method == "allowed":
        return {"moves": game.allowed()}
    return None


def serve():
    game = Game()
    game.read(START)
    for line in sys.stdin:
        request = json.loads(line)
        result = answer(game, request["method"], request.get("params", {}))
        body = {"result": result} if result else {"error": {"code": -32601, "message": "no such method"}}
        print(json.dumps({"jsonrpc": "2.0", "id": request["id"], **body}), flush=True)


if __name__ == "__main__":
    if "--mistakes" in sys.argv:
        for name, words in MISTAKES.items():
            print(name, "-", words)
    else:
        serve()
