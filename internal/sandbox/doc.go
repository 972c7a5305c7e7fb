// Package sandbox runs a program with bounds: a folder of its own, no environment
// but what it is given, files through Landlock, the network through Landlock and a
// filter of system calls, no rights of root's, memory, processes, what it writes,
// and time. What Landlock leaves free (modes, owners and times of files, groups of
// processes) the filter asks a guard for, which allows it where it is the program's
// own. What a program starts ends with it. Where the kernel cannot bound a program,
// Missing says so; nothing is run unbounded unless that is asked for.
package sandbox
