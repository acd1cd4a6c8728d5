#!/usr/bin/env python3
"""A row of shift and merge that draws by itself, and answers Fendle: JSON-RPC 2.0 on standard input and output, one message a line.

    fendle compare coil.toml --game "python3 coil.py"

With --mistake NAME it has one of the mistakes that games of this kind have:
  weights    a 4 appears as often as a 2
  spawns     a move that changes nothing is refused, and a tile appears all the same
  twice      a tile merges twice in one move
  full       the board is full: the game is over, though neighbours could merge
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

    def spawn(self, draw):
        free = [i for i, t in enumerate(self.row) if not t]
        if free:
            weights = (1, 1) if mistake == "weights" else (9, 1)
            self.row[draw.choice(free)] = draw.choices((2, 4), weights)[0]

    def move(self, name, seed=None):
        draw = random if seed is None else random.Random(seed)
        back = name == "shift right"
        row, score = shifted(self.row[::-1] if back else self.row)
        row = row[::-1] if back else row
        if name not in ("shift left", "shift right") or row == self.row:
            if mistake == "spawns":
                self.spawn(draw)
            return self.told(allowed=False)
        self.row = row
        self.spawn(draw)
        return self.told(allowed=True, score=score)


def serve():
    game = Game()
    answers = {
        "about": lambda p: {"name": "coil", "places": True},
        "begin": lambda p: game.begin(),
        "place": lambda p: game.place(p["position"]),
        "move": lambda p: game.move(p["move"], p.get("seed")),
    }
    for line in sys.stdin:
        request = json.loads(line)
        answer = answers.get(request["method"])
        body = {"result": answer(request.get("params", {}))} if answer else {"error": {"code": -32601, "message": "no such method"}}
        print(json.dumps({"jsonrpc": "2.0", "id": request["id"], **body}), flush=True)


if __name__ == "__main__":
    serve()
