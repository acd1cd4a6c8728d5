// Runs the test cases of a file against a game. `fendle cases LEVEL -o cases.json` writes the file.
// What the game does not tell is null and is not compared.
using System;
using System.Collections.Generic;
using System.IO;
using System.Linq;
using System.Text.Json;

public record Told(bool Allowed, Dictionary<string, string[]>? Boards, Dictionary<string, string>? Values, string? Status, long? Score);

public interface IGame
{
    Told Place(JsonElement position);
    Told Move(string name, string[] draws);
}

public static class Cases
{
    // A row of a board is a list of cells.
    public static string[] Rows(JsonElement board) =>
        board.EnumerateArray().Select(row => string.Concat(row.EnumerateArray().Select(cell => cell.GetString()))).ToArray();

    // What differs, in words; null where nothing does.
    static string? Wrong(Told told, JsonElement expect)
    {
        bool allowed = expect.GetProperty("allowed").GetBoolean();
        if (told.Allowed != allowed) return $"allowed is {told.Allowed}, not {allowed}";
        JsonElement position = expect.GetProperty("position");
        foreach (var (name, rows) in told.Boards ?? new())
        {
            string[] wanted = Rows(position.GetProperty("boards").GetProperty(name));
            if (!rows.SequenceEqual(wanted)) return $"{name} is {string.Join('/', rows)}, not {string.Join('/', wanted)}";
        }
        foreach (var (name, value) in told.Values ?? new())
        {
            string? wanted = position.GetProperty("values").GetProperty(name).GetString();
            if (value != wanted) return $"{name} is {value}, not {wanted}";
        }
        string status = expect.GetProperty("status").GetString()!;
        // A game that does not look whether a move is left calls it running.
        bool stuck = told.Status == "running" && status == "stuck";
        if (told.Status != null && told.Status != status && !stuck) return $"the status is {told.Status}, not {status}";
        long score = expect.GetProperty("score").GetInt64();
        return told.Score is long gained && gained != score ? $"the score grows by {gained}, not {score}" : null;
    }

    public static int Run(string file, IGame game)
    {
        using JsonDocument document = JsonDocument.Parse(File.ReadAllText(file));
        int failed = 0;
        foreach (JsonElement test in document.RootElement.GetProperty("cases").EnumerateArray())
        {
            game.Place(test.GetProperty("position"));
            string[] draws = test.GetProperty("draws").EnumerateArray().Select(d => d.GetProperty("what").GetString()!).ToArray();
            string? words = Wrong(game.Move(test.GetProperty("move").GetString()!, draws), test.GetProperty("expect"));
            if (words == null) continue;
            failed += 1;
            Console.WriteLine($"FAILED {test.GetProperty("name")} at {test.GetProperty("at")}\n    {words}");
        }
        return failed;
    }
}
