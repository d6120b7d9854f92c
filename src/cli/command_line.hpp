// The command line, declared once in command_line.cpp: what is typed is parsed by it into the options of commands.hpp,
// and help, manual pages and a shell's completion are made from it (command_help.hpp).
#pragma once

#include "cli/command_help.hpp"

namespace wavecrest::cli {

// Does what the arguments say and gives the exit status.
int run_command_line(int argc, char** argv);

// Every command that people see, with its options and examples.
CommandHelp describe_command_line();

}  // namespace wavecrest::cli
