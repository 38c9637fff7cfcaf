// Package mail takes messages in by SMTP, makes of each what goes out to the
// people of a group, and hands messages to a relay by SMTP.
//
// Inward ([Server]): RCPT is answered for each address; after DATA the workspace
// decides, and 250 is said only when the message, the decision and the deliveries
// are committed. When one group of several refuses a message, nothing of it is
// accepted: the author gets one answer that names the group.
//
// Between ([Parse], [Message.For]): header fields are taken out and put in; the
// body goes out byte for byte as it came.
//
// Outward ([RelayClient]): one connection, kept open between messages, with a result
// for each recipient.
package mail
