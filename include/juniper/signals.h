// Signals that end the process.
#pragma once

namespace [[gnu::visibility("default")]] juniper {

// From now on SIGINT, SIGTERM and SIGHUP, unless they are ignored, first remove the files that functions of the library
// are writing beside their places; then they end the process as ever, with the status that tells the signal. A change of
// several files that is just taking its place, a matter of milliseconds, is carried through before. Without this call
// what was under way stays behind, under a name that begins with a dot, until the next call that writes to that place
// removes it. For a program whose signals are its own matter: nothing is installed but here. Call it once, at the start.
void end_on_signals();

}  // namespace juniper
