package Record;

# perl -I scripts/suites -MRecord=FOLDER SCRIPT: runs one of PostgreSQL's own test scripts with a server that does
# nothing but note, one line each on stdout, what it is told to do. The fields of a line stand between tabs; \\, \t and
# \n are a backslash, a tab and a line break.
#
#   sql    DATABASE  STATEMENTS
#   empty  NAME                 a file of the data folder is to be emptied
#   file   NAME      TEXT       the text is to be added to it
#   ready                       what is in FOLDER/data is to be in force now
#   login  ok|fails  PASSWORD   CONNECTION  WHAT
#   uri    URI       STDOUT     STDERR
#
# Files that the script makes are in FOLDER/data (the server's) and FOLDER/keys (the client's).
use strict;
use warnings;

our $folder;

sub import {
	$folder = $_[1];
	mkdir "$folder/$_" for qw(data keys);
	$| = 1;
	$ENV{with_ssl} = 'openssl';
	delete $ENV{PGPASSWORD};
}

sub note_down {
	my @fields = map { defined $_ ? $_ : '' } @_;
	for (@fields) { s/\\/\\\\/g; s/\t/\\t/g; s/\n/\\n/g; }
	print join("\t", @fields), "\n";
}

# The modules that the scripts load, in place of the real ones.
$INC{$_} = __FILE__
  for qw(PostgreSQL/Test/Cluster.pm PostgreSQL/Test/Utils.pm Test/More.pm IPC/Run.pm FindBin.pm);

package FindBin;
our ($RealBin) = $0 =~ m{^(.*)/};
sub import { }

package Test::More;
my @told = qw(note is is_deeply like ok pass fail plan skip todo_skip done_testing diag);
sub import {
	my $to = caller;
	no strict 'refs';
	*{"${to}::$_"} = \&{"Test::More::$_"} for @told;
	*{"${to}::TODO"} = \our $TODO;
}
sub note { }
sub diag { }
sub is   { }
sub like { }
sub ok   { }
sub pass { }
sub fail { }
sub done_testing { }
sub plan { my %what = @_; exit 0 if $what{skip_all} }
sub skip      { no warnings 'exiting'; last SKIP }
sub todo_skip { no warnings 'exiting'; last TODO }

# The script on connection URIs has one comparison for each.
sub is_deeply {
	my (undef, $want, $uri) = @_;
	Record::note_down('uri', $uri, $want->{stdout}, $want->{stderr}) if ref $want eq 'HASH';
}

package Test::Builder;
our $Level = 0;

package IPC::Run;
sub import { }
sub run {
	${ $_[2] } = ${ $_[4] } = '';
	return 0;
}

package PostgreSQL::Test::Utils;
our ($windows_os, $use_unix_sockets) = (0, 1);
sub import {
	my $to = caller;
	no strict 'refs';
	*{"${to}::$_"} = \&{"PostgreSQL::Test::Utils::$_"} for qw(command_ok command_fails command_like check_pg_config);
	*{"${to}::windows_os"}       = \$windows_os;
	*{"${to}::use_unix_sockets"} = \$use_unix_sockets;
}
sub tempdir { return "$Record::folder/keys" }
sub command_ok      { }
sub command_fails   { }
sub command_like    { }
sub check_pg_config { return 1 }

package PostgreSQL::Test::Cluster;
sub import    { }
sub new       { return bless {}, shift }
sub init      { }
sub start     { }
sub stop      { }
sub logfile   { return 'log' }
sub host      { return '' }
sub port      { return 0 }
sub data_dir  { return "$Record::folder/data" }
sub _update_pid { }
sub reload      { Record::note_down('ready') }
sub restart {
	my $path = data_dir() . '/sslconfig.conf';
	if (open my $in, '<', $path) {
		local $/;
		Record::note_down('empty', 'sslconfig.conf');
		Record::note_down('file', 'sslconfig.conf', scalar <$in>);
	}
	Record::note_down('ready');
}
sub append_conf {
	my (undef, $name, $text) = @_;
	Record::note_down('empty', $name) if $name eq 'pg_hba.conf';
	Record::note_down('file', $name, $text);
}
sub psql      { Record::note_down('sql', @_[1, 2]) }
sub safe_psql { Record::note_down('sql', @_[1, 2]); return '' }
sub connect_ok    { Record::note_down('login', 'ok',    $ENV{PGPASSWORD}, @_[1, 2]) }
sub connect_fails { Record::note_down('login', 'fails', $ENV{PGPASSWORD}, @_[1, 2]) }

1;
