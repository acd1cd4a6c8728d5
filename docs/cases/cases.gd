# Runs the test cases of a file against a game. `fendle cases LEVEL -o cases.json` writes the file.
# `game` has place(position) and move(name, draws), which give a Dictionary: allowed, position, status, score; what it leaves out is not compared.
extends RefCounted


func rows(board: Array) -> Array:
    return board.map(func(row): return "".join(PackedStringArray(row)) if row is Array else row)


# What differs, in words; empty where nothing does.
func wrong(told: Dictionary, expect: Dictionary) -> String:
    if told.get("allowed", true) != expect["allowed"]:
        return "allowed is %s, not %s" % [told.get("allowed", true), expect["allowed"]]
    var position: Dictionary = told.get("position", {})
    for name in position.get("boards", {}):
        var wanted := rows(expect["position"]["boards"][name])
        if rows(position["boards"][name]) != wanted:
            return "%s is %s, not %s" % [name, rows(position["boards"][name]), wanted]
    for name in position.get("values", {}):
        if str(position["values"][name]) != expect["position"]["values"][name]:
            return "%s is %s, not %s" % [name, position["values"][name], expect["position"]["values"][name]]
    var status: String = told.get("status", expect["status"])
    # A game that does not look whether a move is left calls it running.
    var stuck: bool = status == "running" and expect["status"] == "stuck"
    if status != expect["status"] and not stuck:
        return "the status is %s, not %s" % [status, expect["status"]]
    if told.get("score", expect["score"]) != expect["score"]:
        return "the score grows by %s, not %s" % [told["score"], expect["score"]]
    return ""


func run(file: String, game: Object) -> int:
    var failed := 0
    var cases: Dictionary = JSON.parse_string(FileAccess.get_file_as_string(file))
    for test in cases["cases"]:
        game.place(test["position"])
        var draws: Array = test["draws"].map(func(draw): return draw["what"])
        var words := wrong(game.move(test["move"], draws), test["expect"])
        if words != "":
            failed += 1
            print("FAILED %s at %s\n    %s" % [test["name"], test["at"], words])
    return failed
