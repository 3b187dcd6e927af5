use strict;
use warnings;
use Skerry::Manifest;
print "exported ", Skerry::Manifest::export(@ARGV), " passengers\n";
