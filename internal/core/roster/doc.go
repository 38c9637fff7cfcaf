// Package roster reads lists of people as people have them: pasted from a mail, an
// address field or a sheet, or a CSV file.
//
// [Read] finds out by itself which it is. A list whose first line holds at least one
// known heading, such as E-mail or Department, is a table: CSV as RFC 4180 has it,
// separated by commas, semicolons, tabs or bars. Everything else is pasted text:
// lines, and on a line entries separated by semicolons or, where there are none, by
// commas. An entry is an address, a name with an address in angle brackets
// (RFC 5322, 3.4), or a name alone, which is somebody to look for.
//
// Text is UTF-8 or UTF-16 with a byte order mark; text that can't be UTF-8 is taken
// for Windows-1252, and [List].Encoding says so. A file that is no text is refused.
//
// Who an entry is, and whether they can be in a group, is not decided here.
package roster
