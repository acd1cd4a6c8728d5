-- Runs the test cases of a file against a game. `fendle cases LEVEL -o cases.json` writes the file.
-- `decode` is the JSON reader that your engine has. `game` has place(position) and move(name, draws), which give a table: allowed, position,
-- status, score; what it leaves out is not compared.
local Cases = {}

local function rows(board)
    local out = {}
    for r, row in ipairs(board) do
        out[r] = type(row) == "table" and table.concat(row) or row
    end
    return table.concat(out, "/")
end

-- What differs, in words; nil where nothing does.
local function wrong(told, expect)
    local allowed = told.allowed ~= false
    if allowed ~= expect.allowed then
        return ("allowed is %s, not %s"):format(allowed, expect.allowed)
    end
    local position = told.position or {}
    for name, board in pairs(position.boards or {}) do
        local wanted = rows(expect.position.boards[name])
        if rows(board) ~= wanted then
            return ("%s is %s, not %s"):format(name, rows(board), wanted)
        end
    end
    for name, value in pairs(position.values or {}) do
        if tostring(value) ~= expect.position.values[name] then
            return ("%s is %s, not %s"):format(name, value, expect.position.values[name])
        end
    end
    local status = told.status or expect.status
    -- A game that does not look whether a move is left calls it running.
    local stuck = status == "running" and expect.status == "stuck"
    if status ~= expect.status and not stuck then
        return ("the status is %s, not %s"):format(status, expect.status)
    end
    if (told.score or expect.score) ~= expect.score then
        return ("the score grows by %d, not %d"):format(told.score, expect.score)
    end
end

function Cases.run(text, decode, game)
    local failed = 0
    for _, test in ipairs(decode(text).cases) do
        game.place(test.position)
        local draws = {}
        for i, draw in ipairs(test.draws) do
            draws[i] = draw.what
        end
        local words = wrong(game.move(test.move, draws), test.expect)
        if words then
            failed = failed + 1
            print(("FAILED %s at %s\n    %s"):format(test.name, test.at, words))
        end
    end
    return failed
end

return Cases
