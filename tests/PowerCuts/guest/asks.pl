#!/usr/bin/perl
# Somebody at this machine, who asks for changes one after the other until the power goes. On the serial line it says what it asks
# for, what it was told in answer, and, at each boot, how things are. The seed and the number of the boot are on the kernel's
# command line.
use strict;
$| = 1;
open STDOUT, '>', '/dev/ttyS0';
open STDERR, '>&', \*STDOUT;
open STDIN, '<', '/dev/null';
open my $words, '<', '/proc/cmdline';
my ($seed, $boot) = <$words> =~ /asks=(\d+),(\d+)/;
srand $seed * 1000 + $boot;
my @names = qw(quay-lamps tide-gauge fare-ledger gate-counter);

sub said { print '@ ', join(' ', @_), "\n" }

sub calm {    # arguments: exit code and what it printed, on one line
  my $said = '';
  if (open my $from, '-|', '/opt/calm/calm', @_) { local $/; $said = <$from>; close $from }
  $said =~ s/\n/ /g;
  return ($? >> 8, $said);
}

sub ask {     # what it comes to, for whoever listens; the command
  my ($what, @command) = @_;
  said 'asking', $what;
  my ($exit, $said) = calm(@command);
  return said 'refused', $what, $exit, $said if $exit;
  $what .= " $1" if $what =~ /^(?:re)?st/ && $said =~ /"said": ".*?run (\d+)/;
  said 'told', $what;
}

my ($up) = calm(qw(host status --wait 120s));
said 'up', $up;
if ($boot == 0) {
  calm(qw(account permit root));
  for (@names) {
    ask("wrap $_", 'wrap', $_, '--account', 'root', '--at', 'boot', '--proof', 'up-for:50ms', '--', '/opt/program.pl', $_);
    ask("start $_", 'start', $_, '--json');
  }
}
said 'list', (calm(qw(list --json)))[1];
said 'runs', $_, (calm('runs', $_, '--last', '1000', '--json'))[1] for @names;
said 'accounts', (calm(qw(account list --json)))[1];
said 'secrets', (calm(qw(secret list quay-lamps --json)))[1];
said 'logbook', $1 if (calm('logbook', '--last', '100'))[1] =~ /(.*damag.*)/;
said 'ready';
for my $i (1 .. 100000) {
  my $name = $names[rand @names];
  my $number = $boot * 100000 + $i;
  my $kind = int rand 10;
  if ($kind < 2) { ask("title $name $number", 'adjust', $name, '--title', "Nr $number", '--json') }
  elsif ($kind == 2) { ask("start $name", 'start', $name, '--json') }
  elsif ($kind == 3) { ask("stop $name", 'stop', $name, '--json') }
  elsif ($kind == 4) { ask("restart $name", 'restart', $name, '--json') }
  elsif ($kind == 5) { ask("wrap trial-" . $i % 6, 'wrap', 'trial-' . $i % 6, '--account', 'root', '--', '/bin/sleep', $number) }
  elsif ($kind == 6) { ask("unwrap trial-" . $i % 6, 'unwrap', 'trial-' . $i % 6, '--yes') }
  elsif ($kind == 7) { my $way = rand 2 < 1 ? 'permit' : 'forbid'; ask("$way daemon", 'account', $way, 'daemon') }
  elsif ($kind == 8) { system('busybox date -s @' . (time + int((rand(2) - 1) * 10**rand 7)) . ' >/dev/null') }    # seconds to months
  else {
    open my $value, '>', '/run/value';
    print $value "value-$number-of-some-length";
    close $value;
    said 'asking', "secret KEY$i";
    said 'told', "secret KEY$i" if system('/opt/calm/calm secret set quay-lamps KEY' . $i . ' </run/value >/dev/null 2>&1') == 0;
  }
}
