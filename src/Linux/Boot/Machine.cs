namespace CalmSentry.Linux.Boot;

/// <summary>This machine and its present boot.</summary>
public static class Machine
{
    /// <summary>A new random id each boot (random(4), /proc/sys/kernel/random/boot_id).</summary>
    public static string BootId { get; } = File.ReadAllText("/proc/sys/kernel/random/boot_id").Trim();

    public static string HostName => Environment.MachineName;
}
