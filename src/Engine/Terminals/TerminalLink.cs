using System.Buffers.Binary;
using System.Net.Sockets;
using CalmSentry.Contract.Keeper;
using CalmSentry.Linux.Sockets;

namespace CalmSentry.Engine.Terminals;

/// <summary>One viewer's line to the keeper whose terminal it sees (<see cref="ViewerWord"/>).</summary>
internal sealed class TerminalLink : IDisposable
{
    private readonly Socket socket;
    private readonly byte[] inbox = new byte[Message.HeadLength + ViewerForm.Longest];
    private readonly SemaphoreSlim speaking = new(1);

    private TerminalLink(Socket socket) => this.socket = socket;

    /// <summary>Null: nothing can be seen there now.</summary>
    public static TerminalLink? Find(string runDirectory)
    {
        try
        {
            return new(UnixConnection.Connect(runDirectory, ViewerForm.Socket));
        }
        catch (SocketException)
        {
            return null;
        }
    }

    /// <param name="place">To go on there; null: all that is still kept.</param>
    /// <exception cref="SocketException">The keeper is gone.</exception>
    public Task Join(long? place, CancellationToken gone)
    {
        var body = new byte[8];
        BinaryPrimitives.WriteInt64LittleEndian(body, place ?? ViewerForm.AllThereIs);
        return Say(ViewerWord.Join, body, gone);
    }

    /// <exception cref="SocketException">The keeper is gone.</exception>
    public async Task Type(ReadOnlyMemory<byte> keys, CancellationToken gone)
    {
        for (var at = 0; at < keys.Length; at += ViewerForm.Longest)
            await Say(ViewerWord.Keys, keys.Slice(at, Math.Min(ViewerForm.Longest, keys.Length - at)), gone);
    }

    /// <exception cref="SocketException">The keeper is gone.</exception>
    public Task Resize(TerminalSize size, CancellationToken gone)
    {
        var body = new byte[TerminalSize.Length];
        size.Write(body);
        return Say(ViewerWord.Size, body, gone);
    }

    private async Task Say(ViewerWord word, ReadOnlyMemory<byte> body, CancellationToken gone)
    {
        var whole = new byte[Message.HeadLength + body.Length];
        BinaryPrimitives.WriteInt32LittleEndian(whole, body.Length);
        whole[4] = (byte)word;
        body.CopyTo(whole.AsMemory(Message.HeadLength));
        await speaking.WaitAsync(gone);
        try
        {
            for (var put = 0; put < whole.Length; )
                put += await socket.SendAsync(whole.AsMemory(put), gone);
        }
        finally
        {
            speaking.Release();
        }
    }

    /// <summary>What it shows next, until the next is asked for; null: the run is over, or the keeper gone.</summary>
    public async Task<(ViewerWord Word, ReadOnlyMemory<byte> Body)?> Next(CancellationToken gone)
    {
        if (!await Fill(0, Message.HeadLength, gone))
            return null;
        var length = BinaryPrimitives.ReadInt32LittleEndian(inbox);
        if (length is < 0 or > ViewerForm.Longest || !await Fill(Message.HeadLength, length, gone))
            return null;
        return ((ViewerWord)inbox[4], inbox.AsMemory(Message.HeadLength, length));
    }

    private async Task<bool> Fill(int at, int length, CancellationToken gone)
    {
        try
        {
            for (var have = 0; have < length; )
            {
                var got = await socket.ReceiveAsync(inbox.AsMemory(at + have, length - have), gone);
                if (got == 0)
                    return false;
                have += got;
            }

            return true;
        }
        catch (SocketException)
        {
            return false;
        }
    }

    public void Dispose()
    {
        socket.Dispose();
        speaking.Dispose();
    }
}
