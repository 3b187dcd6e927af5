#!/usr/bin/perl
# A program of a service: says on the second serial line which run it is, and whether another copy of it is there.
use strict;
use Fcntl qw(:flock);
my ($name) = @ARGV;
my (undef, $id, $run) = split /:/, $ENV{CALM_RUN};
open my $line, '>>', '/dev/ttyS1';
open my $only, '>', "/run/only.$name";
syswrite $line, flock($only, LOCK_EX | LOCK_NB) ? "began $name $run\n" : "doubled $name $run\n";
my $count = 0;
while (1) { print "$name line ", $count++, "\n"; $| = 1; select undef, undef, undef, 0.2; }
