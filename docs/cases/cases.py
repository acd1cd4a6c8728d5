#!/usr/bin/env python3
"""Runs the test cases of a file against a game: python3 cases.py cases.json yard.py

The game is a module with a class Game. Its methods place(position) and move(name, draws) give what the code tells: `allowed`,
`position`, `status`, `score`; what it leaves out is not compared. `fendle cases LEVEL -o cases.json` writes the file.
"""
import importlib.util
import json
import sys


def rows(board):
    return ["".join(row) for row in board]


def wrong(told, expect):
    """What differs, in words; None where nothing does."""
    if told.get("allowed", True) != expect["allowed"]:
        return f"allowed is {told.get('allowed', True)}, not {expect['allowed']} ({expect.get('why', 'it is made')})"
    for name, board in told["position"].get("boards", {}).items():
        if rows(board) != rows(expect["position"]["boards"][name]):
            return f"{name} is {rows(board)}, not {rows(expect['position']['boards'][name])}"
    for name, value in told["position"].get("values", {}).items():
        if str(value) != expect["position"]["values"][name]:
            return f"{name} is {value}, not {expect['position']['values'][name]}"
    # A game that does not look whether a move is left calls it running.
    status = told.get("status", expect["status"])
    if status != expect["status"] and (status, expect["status"]) != ("running", "stuck"):
        return f"the status is {status}, not {expect['status']}"
    if told.get("score", expect["score"]) != expect["score"]:
        return f"the score grows by {told['score']}, not {expect['score']}"
    return None


def run(cases, game):
    failed = 0
    for case in cases["cases"]:
        told = game.place(case["position"])
        words = None
        if told.get("status", case["status"]) != case["status"]:
            words = f"before the move the status is {told['status']}, not {case['status']}"
        words = words or wrong(game.move(case["move"], [d["what"] for d in case["draws"]]), case["expect"])
        if words:
            failed += 1
            print(f"FAILED {case['name']} at {case['at']}\n    {words}")
    print(f"{len(cases['cases']) - failed} of {len(cases['cases'])} cases hold")
    return failed


if __name__ == "__main__":
    spec = importlib.util.spec_from_file_location("game", sys.argv[2])
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    with open(sys.argv[1], encoding="utf-8") as file:
        sys.exit(run(json.load(file), module.Game()) > 0)
