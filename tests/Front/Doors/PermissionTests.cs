using CalmSentry.Server;
using CalmSentry.Server.Doors;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.Routing;

namespace CalmSentry.Tests.Front.Doors;

/// <summary>A route that names no permission, or two, is found before anything is served.</summary>
public class PermissionTests
{
    [Fact]
    public async Task What_names_no_permission_is_found_and_what_names_one_is_not()
    {
        await using var app = WebApplication.CreateSlimBuilder().Build();
        RequestDelegate nothing = _ => Task.CompletedTask;
        app.MapGet("/named", nothing).May(Permission.Read);
        app.MapPost("/forgotten", nothing);
        app.MapGroup("/group").MapDelete("/forgotten-too", nothing);
        app.MapGet("/twice", nothing).May(Permission.Read).May(Permission.Anyone);
        var endpoints = ((IEndpointRouteBuilder)app).DataSources.SelectMany(source => source.Endpoints).ToList();
        var unnamed = string.Join(' ', Permissions.Unnamed(endpoints));
        Assert.Equal(3, Permissions.Unnamed(endpoints).Count);
        foreach (var route in new[] { "/forgotten", "/group/forgotten-too", "/twice" })
            Assert.Contains(route, unnamed, StringComparison.Ordinal);
        Assert.Equal(
            Permission.Read,
            Permissions.Of(
                endpoints.First(endpoint => endpoint.DisplayName!.Contains("/named", StringComparison.Ordinal))
            )
        );
    }

    /// <summary>The server itself looks at all it has mapped, and at no empty list.</summary>
    [Fact]
    public async Task A_server_with_a_call_that_names_none_does_not_serve()
    {
        await using var server = new ServerApp();
        Assert.InRange(((IEndpointRouteBuilder)server.App).DataSources.Sum(source => source.Endpoints.Count), 50, 1000);
        Serve.DemandPermissions(server.App);
        RequestDelegate nothing = _ => Task.CompletedTask;
        server.App.MapGet("/forgotten", nothing);
        var error = Assert.ThrowsAny<Exception>(() => Serve.DemandPermissions(server.App));
        Assert.Contains("/forgotten", error.Message, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData(CallerKind.Sentry, true, true)]
    [InlineData(CallerKind.Session, true, true)]
    [InlineData(CallerKind.Program, false, false)]
    [InlineData(CallerKind.Stranger, false, false)]
    internal void Each_kind_of_caller_may_what_it_may_and_no_more(CallerKind kind, bool reads, bool administers)
    {
        var caller = new Caller("anna", kind);
        Assert.Equal(reads, caller.May(Permission.Read));
        Assert.Equal(administers, caller.May(Permission.Administer));
        Assert.Equal(administers, caller.May(Permission.Define));
        Assert.Equal(kind == CallerKind.Program, caller.May(Permission.OwnService));
    }
}
