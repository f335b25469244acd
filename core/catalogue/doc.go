// Package catalogue reads message catalogues (GNU gettext .mo files) and brings
// a translated message back to its original, placeholders included, so that
// what is known of messages has to be written only once.
//
//	c, err := catalogue.Read(raw)
//	t := catalogue.NewTranslator("de", c)
//	t.Original("E: Paket skerrow-gates kann nicht gefunden werden")
//	// "E: Unable to locate package skerrow-gates", true
//
// The format is that of the GNU gettext manual, section "The Format of GNU MO
// Files".
package catalogue
