#!/usr/bin/env python3
"""A row of shift and merge that draws by itself, and answers Fendle: JSON-RPC 2.0 on standard input and output, one message a line.

    fendle compare coil.toml --game "python3 coil.py"

With --mistake NAME it has one of the mistakes that games of this kind have:
  weights    a 4 appears as often as a 2
  spawns     a move that changes nothing is refused, and a tile appears all the same
  twice      a tile merges twice in one move
  full       the board is full: the game is over, though neighbours could merge
  never      a 4 is in the list of what may appear, and a 2 appears instead of it

It tells all outcomes of a move. With --seeds it does not, and draws by the seed that it is given; with --plays it cannot be put into a position.
"""
import json
import random
import sys

mistake = sys.argv[sys.argv.index("--mistake") + 1] if "--mistake" in sys.argv else None
START = [2, 2, 4, 0]
TOP = 32


def shifted(row):
    """The row after a shift to the left, and the score."""
    out, score, open_ = [], 0, False
    for tile in (t for t in row if t):
        if open_ and out[-1] == tile:
            out[-1] *= 2
            score += out[-1]
            open_ = mistake == "twice"
        else:
            out.append(tile)
            open_ = True
    return out + [0] * (len(row) - len(out)), score


class Game:
    def place(self, position):
        self.row = [0 if cell == "." else int(cell) for cell in position["boards"]["tile"][0]]
        return self.told()

    def begin(self):
        self.row = list(START)
        return self.told()

    def told(self, **more):
        status = "won" if max(self.row) >= TOP else "running"
        if mistake == "full" and status == "running" and all(self.row):
            status = "over"
        board = [[str(t) if t else "." for t in self.row]]
        return {"position": {"boards": {"tile": board}}, "status": status, **more}

    def spawns(self):
        """What may appear: the place, the tile, and how often."""
        free = [i for i, t in enumerate(self.row) if not t]
        weights = ((2, 1), (4, 1)) if mistake == "weights" else ((2, 9), (4, 1))
        return [(i, tile, weight) for i in free for tile, weight in weights]

    def spawn(self, draw, outcome=None):
        spawns = self.spawns()
        if spawns:
            index = outcome if outcome is not None else draw.choices(range(len(spawns)), [s[2] for s in spawns])[0]
            place, tile, _ = spawns[index]
            self.row[place] = 2 if mistake == "never" else tile

    def outcomes(self, name):
        """All outcomes of a move; the game stands where it stood."""
        before, out = self.row, []
        row, score = self.shifted_by(name)
        if row is not None:
            self.row = row
            for place, tile, weight in self.spawns():
                self.row = row[:place] + [tile] + row[place + 1 :]
                out.append(self.told(score=score, weight=weight))
        self.row = before
        return {"outcomes": out}

    def shifted_by(self, name):
        """The row after a move, and the score; no row where nothing moves."""
        back = name == "shift right"
        row, score = shifted(self.row[::-1] if back else self.row)
        row = row[::-1] if back else row
        allowed = name in ("shift left", "shift right") and row != self.row
        return (row, score) if allowed else (None, 0)

    def allowed(self):
        ended = self.told()["status"] != "running"
        return [name for name in ("shift left", "shift right") if not ended and self.shifted_by(name)[0]]

    def move(self, name, seed=None, outcome=None):
        draw = random if seed is None else random.Random(seed)
        row, score = self.shifted_by(name)
        if row is None:
            if mistake == "spawns":
                self.spawn(draw)
            return self.told(allowed=False)
        self.row = row
        self.spawn(draw, outcome)
        return self.told(allowed=True, score=score)


def serve():
    game = Game()
    answers = {
        "about": lambda p: {
            "name": "coil", "places": "--plays" not in sys.argv, "tells_allowed": True,
            "outcomes": "--seeds" not in sys.argv, "seeds": "--seeds" in sys.argv,
        },
        "begin": lambda p: game.begin(),
        "place": lambda p: game.place(p["position"]),
        "move": lambda p: game.move(p["move"], p.get("seed"), p.get("outcome")),
        "outcomes": lambda p: game.outcomes(p["move"]),
        "allowed": lambda p: {"moves": game.allowed()},
    }
    for line in sys.stdin:
        request = json.loads(line)
        answer = answers.get(request["method"])
        body = {"result": answer(request.get("params", {}))} if answer else {"error": {"code": -32601, "message": "no such method"}}
        print(json.dumps({"jsonrpc": "2.0", "id": request["id"], **body}), flush=True)


if __name__ == "__main__":
    serve()
