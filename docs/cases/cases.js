#!/usr/bin/env node
// Runs the test cases of a file against a game: node cases.js cases.json ./quay.js
//
// The game is a module with place(position) and move(name, draws), which give what the code tells: allowed, position, status, score; what
// it leaves out is not compared. `fendle cases LEVEL -o cases.json` writes the file.
const fs = require("fs");
const path = require("path");

const rows = (board) => board.map((row) => [...row].join(""));

// What differs, in words; null where nothing does.
function wrong(told, expect) {
    if ((told.allowed ?? true) !== expect.allowed) return `allowed is ${told.allowed ?? true} (${expect.why ?? "it is made"})`;
    for (const [name, board] of Object.entries(told.position.boards ?? {})) {
        const [is, not] = [rows(board).join("/"), rows(expect.position.boards[name]).join("/")];
        if (is !== not) return `${name} is ${is}, not ${not}`;
    }
    for (const [name, value] of Object.entries(told.position.values ?? {})) {
        if (String(value) !== expect.position.values[name]) return `${name} is ${value}, not ${expect.position.values[name]}`;
    }
    // A game that does not look whether a move is left calls it running.
    const status = told.status ?? expect.status;
    const stuck = status === "running" && expect.status === "stuck";
    if (status !== expect.status && !stuck) return `the status is ${status}, not ${expect.status}`;
    if ((told.score ?? expect.score) !== expect.score) return `the score grows by ${told.score}, not ${expect.score}`;
    return null;
}

const { cases } = JSON.parse(fs.readFileSync(process.argv[2], "utf8"));
const game = require(path.resolve(process.argv[3]));
let failed = 0;
for (const test of cases) {
    const before = game.place(test.position).status ?? test.status;
    const drawn = test.draws.map((draw) => draw.what);
    const words =
        before !== test.status
            ? `before the move the status is ${before}, not ${test.status}`
            : wrong(game.move(test.move, drawn), test.expect);
    if (words) {
        failed += 1;
        console.log(`FAILED ${test.name} at ${test.at}\n    ${words}`);
    }
}
console.log(`${cases.length - failed} of ${cases.length} cases hold`);
process.exitCode = failed ? 1 : 0;
