// Package sandbox runs a program with bounds: a folder of its own, no environment
// but what it is given, files through Landlock, the network through Landlock and a
// filter of system calls, memory, processes, what it writes, and time. What it
// starts ends with it. Where the kernel cannot bound a program, Missing says so;
// nothing is run unbounded unless that is asked for.
package sandbox
