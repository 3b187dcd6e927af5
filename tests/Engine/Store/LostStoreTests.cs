using CalmSentry.Store;
using Microsoft.Data.Sqlite;

namespace CalmSentry.Tests.Engine.Store;

/// <summary>A store that cannot be written, or is no store any more: the sentry serves all the same.</summary>
public sealed class LostStoreTests : IDisposable
{
    private readonly string directory = Directory.CreateTempSubdirectory("calm's store ").FullName;

    private string File => Path.Combine(directory, "sentry.db");

    private string Aside => Path.Combine(directory, "aside.db");

    public void Dispose()
    {
        SqliteConnection.ClearAllPools();
        Directory.Delete(directory, recursive: true);
    }

    [Fact]
    public async Task One_that_cannot_be_opened_for_writing_is_read_from_a_copy_and_written_once_it_can_be()
    {
        await using (var before = SentryStore.Open(File))
        {
            before.SetFact("tide", "low");
            await before.Flush();
        }

        SqliteConnection.ClearAllPools();
        // The log cannot be made: as on a file system that is mounted read-only, or full, for whoever is root, too.
        Directory.CreateDirectory(File + "-wal");
        await using var store = SentryStore.Open(File, Aside);
        Assert.Equal($"{File} cannot be opened", store.Failure);
        Assert.Equal("low", store.Fact("tide"));
        store.SetFact("tide", "high");
        await store.Flush(); // gives up waiting, not the write
        Assert.Equal("low", store.Fact("tide"));
        Directory.Delete(File + "-wal");
        while (store.Fact("tide") != "high")
            await store.Flush(soon: false);
        Assert.Null(store.Failure);
        Assert.False(System.IO.File.Exists(Aside));
    }

    [Fact]
    public async Task A_copy_takes_no_more_than_half_of_the_room_there_is_and_leaves_nothing_of_one_that_was_cut_off()
    {
        if (Environment.UserName != "root")
            Assert.Skip("needs root to mount a small file system");
        await using (var before = SentryStore.Open(File))
        {
            for (var i = 0; i < 1000; i++)
                before.SetFact($"fact-{i}", new string('x', 1000));
            await before.Flush();
        }

        SqliteConnection.ClearAllPools();
        Directory.CreateDirectory(File + "-wal");
        var small = Directory.CreateDirectory(Path.Combine(directory, "small")).FullName;
        System.Diagnostics.Process.Start("mount", ["-t", "tmpfs", "-o", "size=2m", "small", small]).WaitForExit();
        try
        {
            // As a server leaves it that is killed in the middle of it.
            var first = Path.Combine(small, "aside.db");
            await System.IO.File.WriteAllBytesAsync(first, new byte[100_000], TestContext.Current.CancellationToken);
            Assert.Throws<SqliteException>(() => SentryStore.Open(File, first));
            Assert.Empty(Directory.GetFileSystemEntries(small));
            await using var store = SentryStore.Open(
                File,
                first,
                Path.Combine(directory, "nowhere", "aside.db"),
                Aside
            );
            Assert.Equal(new string('x', 1000), store.Fact("fact-999"));
            Assert.Empty(Directory.GetFileSystemEntries(small));
            Assert.True(System.IO.File.Exists(Aside));
        }
        finally
        {
            System.Diagnostics.Process.Start("umount", ["-l", small]).WaitForExit();
        }
    }

    [Fact]
    public async Task One_that_is_no_database_any_more_is_set_apart_and_an_empty_one_takes_its_place()
    {
        await System.IO.File.WriteAllTextAsync(File, new string('x', 10_000), TestContext.Current.CancellationToken);
        await using var store = SentryStore.Open(File, Aside);
        Assert.Empty(store.Services());
        Assert.True(System.IO.File.Exists(store.SetApart));
        Assert.Null(store.Failure);
    }

    [Fact]
    public async Task Damage_is_found_by_the_check_and_copied_away()
    {
        await using (var before = SentryStore.Open(File))
        {
            before.Check();
            Assert.Null(before.Damage);
            for (var i = 0; i < 2000; i++)
                before.SetFact($"fact-{i}", new string('x', 200));
            await before.Kept();
        }

        SqliteConnection.ClearAllPools();
        // Pages in the middle are overwritten, as by a disk that loses what it was given; the head stays.
        await using (var raw = System.IO.File.OpenWrite(File))
        {
            raw.Position = raw.Length / 2;
            raw.Write(new byte[32 << 10]);
        }

        await using var store = SentryStore.Open(File, Aside);
        store.Check();
        Assert.NotNull(store.Damage);
        Assert.NotEmpty(Directory.GetFiles(directory, "sentry.db.damaged-*"));
        var copies = Directory.GetFiles(directory, "sentry.db.damaged-*").Length;
        store.Check(); // said once, copied once
        Assert.Equal(copies, Directory.GetFiles(directory, "sentry.db.damaged-*").Length);
    }

    [Fact]
    public void A_later_versions_is_left_as_it_is()
    {
        using (var later = new SqliteConnection($"Data Source={File};Pooling=False"))
        {
            later.Open();
            using var command = later.CreateCommand();
            command.CommandText = "CREATE TABLE ours (x); PRAGMA user_version = 1000";
            command.ExecuteNonQuery();
        }

        Assert.Throws<LaterStoreException>(() => SentryStore.Open(File, Aside));
        Assert.Empty(Directory.GetFiles(directory, "*damaged*"));
    }
}
