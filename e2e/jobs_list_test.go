package e2e

import (
	"strings"

	"diorthos/core/bag"
)

var boundsOfBags = bag.DefaultLimits

// steps are the walks on the stand-in system, by the number of the job.
var steps = map[int]func(w *walker){
	1: func(w *walker) {
		w.finds("WHAT TO DO")
		w.mends("", "--yes", "--source", w.medium)
		w.does(0, "", "store", "check", w.folder)
		w.tells("It works again: what was moved aside on the way is freed.")
		wants(w.t, w.does(0, "", "upkeep", "tidy", w.folder), "is freed", "lies aside no more")
	},
	2: func(w *walker) {
		w.finds("expired")
		w.backsUp()
		w.tells("The clock is lent for the attempt and given back. The attempt is made while the climb waits.")
		w.does(-1, "n\n", "climb", "--image", w.folder)
		if !w.tries() {
			w.t.Error("the update still fails while the clock is lent")
		}
		wants(w.t, w.does(-1, "y\n", "climb", "--image", w.folder), "given back")
		w.does(-1, "", "ready", "--image", w.folder, "--recommend")
	},
	3: func(w *walker) {
		w.finds("external disk")
		w.hands("unplug-external-disks")
		w.does(-1, "y\ny\ny\n", "climb", "--image", w.folder, "--hands", "--only", "1")
		w.mends("")
	},
	4: func(w *walker) {
		w.does(-1, "", "ready", "--image", w.folder)
		w.finds("active")
		w.mends("", "--yes")
	},
	5: func(w *walker) {
		w.finds("WHAT TO DO")
		w.mends("", "--yes", "--source", w.medium)
	},
	6: func(w *walker) {
		w.does(-1, "", "ready", "--image", w.folder)
		w.finds("system-space")
		wants(w.t, w.does(0, "", "upkeep", "room", w.folder), "corbel/update/cache")
		w.backsUp()
		w.mends("", "--yes")
	},
	7: func(w *walker) {
		w.finds("WHAT TO DO")
		w.hands("restart-the-machine")
		w.does(-1, "y\ny\nn\n", "climb", "--image", w.folder, "--hands", "--only", "1")
		w.mends("", "--yes", "--restarted")
	},
	8: func(w *walker) {
		w.finds("latest update")
		w.mends("", "--yes")
	},
	10: func(w *walker) {
		w.finds("WHAT TO DO")
		w.mends("", "--yes", "--source", w.medium)
	},
	11: func(w *walker) {
		w.finds("payload of a feature")
		w.mends("", "--yes", "--source", w.medium)
	},
	12: func(w *walker) {
		w.finds("Pending work")
		w.mends("", "--yes")
	},
	13: func(w *walker) {
		w.finds("WHAT TO DO")
		w.mends("", "--yes")
		listed := w.does(0, "", "upkeep", "aside", w.folder)
		w.tells("The folder was somebody's after all, and is brought back now that the updates are in.")
		name := strings.Fields(lineWith(listed, "work-"))[0]
		wants(w.t, w.does(0, "", "upkeep", "put-back", name, w.folder), "is back at")
	},
	14: func(w *walker) {
		w.finds("metered")
		w.tells("Metering is lent for the attempt.")
		w.does(-1, "n\n", "climb", "--image", w.folder, "--yes")
		if !w.tries() {
			w.t.Error("the update still fails while metering is off")
		}
		wants(w.t, w.does(-1, "y\n", "climb", "--image", w.folder, "--yes"), "given back")
	},
	15: func(w *walker) {
		w.finds("driver")
		w.mends("", "--yes")
	},
	16: func(w *walker) {
		w.finds("style")
		w.tells("The machine is to start by UEFI, so the firmware stays as it is, and the table is changed in place.")
		w.does(0, "", "climb", "--image", w.folder, "--yes", "--skip", "1")
		w.mends("", "--yes")
		w.does(0, "", "layout", "show", w.folder)
	},
	18: func(w *walker) {
		w.does(-1, "", "code", "0x4010008")
		w.finds("WHAT TO DO")
		w.mends("", "--yes", "--source", w.medium)
	},
	20: func(w *walker) {
		w.finds("medium")
		w.hands("medium-for-this-firmware")
		w.mends("y\ny\ny\n", "--hands", "--only", "1")
	},
	21: func(w *walker) {
		w.does(1, "", "boot", "show", w.folder)
		w.finds("loader")
		w.mends("", "--yes")
		w.does(0, "", "boot", "show", w.folder)
	},
}
