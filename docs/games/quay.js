#!/usr/bin/env node
// A row of lamps that answers Fendle: JSON-RPC 2.0 on standard input and output, one message a line.
//
//     fendle compare quay.toml --game "node quay.js"
//
// It only plays: it begins anew and is led by its moves. With --mistake NAME it has a mistake:
//   edge      the last lamp does not switch its neighbour
//   twice     the lamp itself is switched twice
//   early     it is won as soon as four lamps are out
const readline = require("readline");

const at = process.argv.indexOf("--mistake");
const mistake = at < 0 ? null : process.argv[at + 1];
const START = "*.**.";
let lit = [];

function read(glyphs) {
    lit = [...glyphs].map((glyph) => glyph === "*");
}

function begin() {
    read(START);
    return told({});
}

function place(position) {
    read(position.boards.lanterns[0]);
    return told({});
}

function isWon() {
    const out = lit.filter((on) => !on).length;
    return mistake === "early" ? out > 3 : out === lit.length;
}

function told(more) {
    const rows = [lit.map((on) => (on ? "*" : ".")).join("")];
    return { position: { boards: { lanterns: rows } }, status: isWon() ? "won" : "running", ...more };
}

function move(name) {
    if (isWon()) return told({ allowed: false });
    const cell = Number(name.split(" ")[1].slice(3)) - 1;
    for (const i of [cell - 1, cell, cell + 1]) {
        if (mistake === "edge" && cell === lit.length - 1 && i !== cell) continue;
        if (i >= 0 && i < lit.length) lit[i] = !lit[i];
        if (mistake === "twice" && i === cell) lit[i] = !lit[i];
    }
    return told({ allowed: true });
}

function serve() {
    begin();
    readline.createInterface({ input: process.stdin }).on("line", (line) => {
        const { id, method, params } = JSON.parse(line);
        const answers = {
            about: () => ({ name: "quay", places: false }),
            begin,
            move: () => move(params.move),
        };
        const answer = answers[method]
            ? { result: answers[method]() }
            : { error: { code: -32601, message: "no such method" } };
        process.stdout.write(JSON.stringify({ jsonrpc: "2.0", id, ...answer }) + "\n");
    });
}

module.exports = { place, move };
if (require.main === module) serve();
