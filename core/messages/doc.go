// Package messages tells which message somebody means who reads one off a screen,
// types it from memory or hears it on the telephone.
//
//	book := messages.New(list)
//	for _, m := range book.Match("colonel panic not sinking unable to mount route", 3) {
//		fmt.Println(m.Share, m.Message.By, m.Message.Says)
//	}
//
// The error model: words are left out, come in another order, are split or joined;
// letters are swapped, doubled, lost or mistyped (Damerau, 1964); words are written as
// they sound; whole words of the speaker's own stand around it. Each word counts by
// how few messages hold it.
package messages
