using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;

namespace CalmSentry.Core.Lifecycle;

/// <summary>What a program asks at its terminal or in a window: who answers it, and who hears of it.</summary>
public static partial class ServiceLife
{
    /// <summary>By then what was given its answer has gone on; else it asks still.</summary>
    private static readonly TimeSpan AnswerPatience = TimeSpan.FromSeconds(10);

    private sealed partial class Deciding
    {
        /// <summary>Its terminal and its display are looked at for as long as it has them.</summary>
        private void LookForQuestions()
        {
            if (definition.Program is { Terminal: true, Kind: not ProgramKind.Toggles })
                Deeds.Add(new LookForQuestion(After.Run!.Number));
            if (definition.Program is { Window: not null, Kind: not ProgramKind.Toggles })
                Deeds.Add(new LookAtWindow(After.Run!.Number));
        }

        private void SeeQuestion(QuestionSeen seen)
        {
            if (After.Run!.AskedIn(seen.At) is { } before)
            {
                var isSame = before.IsSameAs(seen);
                if (!isSame)
                    EndQuestion(seen.At);
                else if (!before.Answered || !seen.Lasts || now - before.Since < AnswerPatience)
                    return;
            }

            if (seen.Text is not { } text)
                return;
            if (seen.At == AskedAt.Window)
            {
                if (seen.Lasts)
                    NoteDialog(text, seen.Place);
                return;
            }

            var answered = After.Run.Question is { Answered: true };
            var known = definition.Program.Answers.FirstOrDefault(one =>
                text.EndsWith(one.Question, StringComparison.Ordinal)
            );
            if (known is { NeedsNone: true })
                return;
            if (known is not null && !answered && Counted(known) < known.Most)
                GiveAnswer(known, text, seen.Place);
            else if (seen.Lasts)
                NoteQuestion(text, seen.Place, answered ? null : known);
        }

        private int Counted(KnownQuestion known) =>
            After.Answers.Count(given => given.Counts(known, After.Run!.Number, now));

        private void GiveAnswer(KnownQuestion known, string text, long place)
        {
            var run = After.Run!.Number;
            After = After with
            {
                Answers =
                [
                    .. After.Answers.Where(given => given.Run == run || now - given.At < AnswerGiven.Day),
                    new(known.Question, run, now),
                ],
                Run = After.Run with { Question = new(text, place, now) { Answered = true } },
            };
            Say(new QuestionAnsweredEntry(run, known.Question));
            Deeds.Add(new GiveAnswer(run, known, place));
        }

        /// <param name="known">It was to be answered, had it not been so often already; null: nobody knows it.</param>
        private void NoteQuestion(string text, long place, KnownQuestion? known)
        {
            var run = After.Run!;
            var entry = new QuestionEntry(run.Number, text, known?.Most);
            After = After with
            {
                Run = run with { Question = new(text, place, now) { Told = known is null ? null : entry.Text } },
            };
            Tell(entry, tells: known is not null);
        }

        private void NoteDialog(string title, long place)
        {
            var run = After.Run!;
            After = After with { Run = run with { Dialog = new(title, place, now) } };
            Say(new DialogEntry(run.Number, title));
        }

        private void EndQuestion(AskedAt at)
        {
            if (After.Run is not { } run || run.AskedIn(at) is not { } question)
                return;
            After = After with { Run = run.Asking(at, null) };
            if (question.Answered)
                return;
            Say(
                at == AskedAt.Window
                    ? new DialogOverEntry(run.Number, now - question.Since)
                    : new QuestionOverEntry(run.Number, now - question.Since)
            );
            if (question.Told is { } told)
                ForgetWithheld(told);
            // What it asks at the other place is looked at for itself: one watch sees both.
            if (After.Run.Asks is not null)
                After = After with
                {
                    Run = After.Run with
                    {
                        Watched =
                        [
                            .. After.Run.Watched.Select(
                                (state, i) =>
                                    definition.Watch.ElementAtOrDefault(i) is QuestionWatch
                                        ? new WatchState { Of = state.Of }
                                        : state
                            ),
                        ],
                    },
                };
        }

        private void EndQuestions()
        {
            EndQuestion(AskedAt.Terminal);
            EndQuestion(AskedAt.Window);
        }
    }
}
