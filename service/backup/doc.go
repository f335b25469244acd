// Package backup writes all that the service keeps into one file, and makes a service of
// it again: the records as they stood at one moment, and the bags that they name.
//
//	sum, err := backup.Write(ctx, dsn, bags, out, progress)
//	sum, err := backup.Restore(ctx, dsn, bags, in, progress)
//
// The file is a tar packed with Zstandard. Its first entry, backup.json, says what is in
// it; tables/NAME holds the rows of a table in PostgreSQL's text form of COPY; bags/KEY a
// bag as it was handed in; the last entry, sums.json, the SHA-256 of every other. A file
// without its last entry is cut off and restores nothing. Sessions of browsers and the
// queue's own tables are left out: people sign in again, and cases that were being read are
// read anew.
package backup
