package e2e

import "diorthos/core/bag"

var boundsOfBags = bag.DefaultLimits

// jobs are what technicians came with.
var jobs = []walk{
	{
		number: 1, title: "The monthly update is refused", try: "update",
		said:   "It says it could not finish the update, and then a number. I have switched it off and on.",
		breaks: []string{"start-type-wrong", "cache-package-damaged", "leftover-work-folder", "payload-missing"},
		steps: func(w *walker) {
			w.finds("WHAT TO DO")
			w.mends("", "--yes", "--source", w.medium)
			w.does(0, "", "store", "check", w.folder)
		},
	},
	{
		number: 2, title: "The installer is too old for today", try: "update",
		said:   "It worked on the others last year. On this one it finds nothing that it may use.",
		breaks: []string{"signature-expired"},
		steps: func(w *walker) {
			w.finds("expired")
			w.tells("The clock is lent for the attempt and given back. The attempt is made while the climb waits.")
			w.does(-1, "n\n", "climb", "--image", w.folder)
			if !w.tries() {
				w.t.Error("the update still fails while the clock is lent")
			}
			wants(w.t, w.does(-1, "y\n", "climb", "--image", w.folder), "given back")
			w.does(-1, "", "ready", "--image", w.folder, "--recommend")
		},
	},
	{
		number: 3, title: "A code about the target disk", try: "install", mode: "bios",
		said:   "It says there is something about the disk, and I cannot go on. There are three of them in the list.",
		breaks: []string{"external-disk-first"},
		steps: func(w *walker) {
			w.finds("external disk")
			w.hands("unplug-external-disks")
			w.does(-1, "y\ny\n", "climb", "--image", w.folder, "--hands", "--only", "1")
			w.mends("")
		},
	},
	{
		number: 4, title: "The upgrade helper gives up before it has measured anything", try: "start", mode: "bios",
		said:   "It closes at once. I have set the big partition active, as it said on a page, and now nothing starts.",
		breaks: []string{"active-flag-wrong"},
		steps: func(w *walker) {
			w.does(-1, "", "ready", "--image", w.folder)
			w.finds("active")
			w.mends("", "--yes")
		},
	},
	{
		number: 5, title: "An upgrade stops in an early offline stage, copying optional parts", try: "update",
		said:   "It comes to eleven per cent and goes back.",
		breaks: []string{"source-other-build"},
		steps: func(w *walker) {
			w.finds("WHAT TO DO")
			w.mends("", "--yes", "--source", w.medium)
		},
	},
	{
		number: 6, title: "A new release will not go on", try: "upgrade",
		said:   "There is not enough room, it says, but I have emptied the bin.",
		breaks: []string{"system-volume-full"},
		steps: func(w *walker) {
			w.does(-1, "", "ready", "--image", w.folder)
			w.finds("system-space")
			w.mends("", "--yes")
		},
	},
	{
		number: 7, title: "An upgrade stops in a late stage", try: "update",
		said: "At ninety-three per cent it says that it takes the changes back. It wanted a restart before, I did " +
			"not have the time.",
		breaks: []string{"branch-owner-wrong", "restart-owed"},
		steps: func(w *walker) {
			w.finds("WHAT TO DO")
			w.hands("restart-the-machine")
			w.does(-1, "y\ny\n", "climb", "--image", w.folder, "--hands", "--only", "1")
			w.mends("", "--yes", "--restarted")
		},
	},
	{
		number: 8, title: "The repair loop", try: "start",
		said:   "It starts into its repair page, again and again.",
		breaks: []string{"update-stops-start"},
		steps: func(w *walker) {
			w.finds("latest update")
			w.mends("", "--yes")
		},
	},
	{
		number: 10, title: "A preview update will not install", try: "update",
		said:   "It is only the preview, but the manager wants it. It stops with a long number.",
		breaks: []string{"service-need-stopped", "payload-altered"},
		steps: func(w *walker) {
			w.finds("WHAT TO DO")
			w.mends("", "--yes", "--source", w.medium)
		},
	},
	{
		number: 11, title: "An optional feature without payload", try: "feature",
		said:   "I tick the box, it turns for a while and says no. The office has no way out to the network.",
		breaks: []string{"feature-source-forbidden"},
		steps: func(w *walker) {
			w.finds("payload of a feature")
			w.mends("", "--yes", "--source", w.medium)
		},
	},
	{
		number: 12, title: "Pending work poisons the start", try: "start",
		said:   "It says it works on something, at nought per cent, since this morning.",
		breaks: []string{"pending-many-gone"},
		steps: func(w *walker) {
			w.finds("Pending work")
			w.mends("", "--yes")
		},
	},
	{
		number: 13, title: "Two updates fail", try: "update",
		said:   "Two of them fail since the summer, the others went in.",
		breaks: []string{"start-type-wrong", "leftover-work-folder"},
		steps: func(w *walker) {
			w.finds("WHAT TO DO")
			w.mends("", "--yes")
			w.does(-1, "", "upkeep", "aside", w.folder)
		},
	},
	{
		number: 14, title: "A build fails on a metered network", try: "update",
		said:   "On board we have the satellite only. It does not even begin.",
		breaks: []string{"network-metered"},
		steps: func(w *walker) {
			w.finds("metered")
			w.tells("Metering is lent for the attempt.")
			w.does(-1, "n\n", "climb", "--image", w.folder, "--yes")
			if !w.tries() {
				w.t.Error("the update still fails while metering is off")
			}
			wants(w.t, w.does(-1, "y\n", "climb", "--image", w.folder, "--yes"), "given back")
		},
	},
	{
		number: 15, title: "An older driver is offered than is installed", try: "driver",
		said:   "Every week it wants to put the old screen driver on, and fails.",
		breaks: []string{"driver-older"},
		steps: func(w *walker) {
			w.finds("driver")
			w.mends("", "--yes")
		},
	},
	{
		number: 16, title: "The disk's table is of the other style", try: "install", mode: "bios",
		said:   "The new board starts by UEFI. The installer says the disk is of the wrong style.",
		breaks: []string{"style-against-firmware"},
		steps: func(w *walker) {
			w.finds("style")
			w.tells("The machine is to start by UEFI, so the firmware stays as it is, and the table is changed in place.")
			w.does(0, "", "climb", "--image", w.folder, "--yes", "--skip", "1")
			w.mends("", "--yes")
			w.does(0, "", "layout", "show", w.folder)
		},
	},
	{
		number: 18, title: "The upgrade helper ends with a code near the end", try: "update",
		said:   "It said 4010-0008, or something like it, one digit I could not read.",
		breaks: []string{"rights-missing", "payload-altered"},
		steps: func(w *walker) {
			w.does(-1, "", "code", "0x4010008")
			w.finds("WHAT TO DO")
			w.mends("", "--yes", "--source", w.medium)
		},
	},
	{
		number: 20, title: "A medium made for the other firmware mode", try: "install",
		said:   "The installer complains of the disk. But the disk is new.",
		breaks: []string{"medium-other-mode"},
		steps: func(w *walker) {
			w.finds("medium")
			w.hands("medium-for-this-firmware")
			w.mends("y\ny\n", "--hands", "--only", "1")
		},
	},
	{
		number: 21, title: "The loader is missing", try: "start",
		said:   "It says that it has mended itself, and it does not start all the same.",
		breaks: []string{"loader-gone"},
		steps: func(w *walker) {
			w.does(1, "", "boot", "show", w.folder)
			w.finds("loader")
			w.mends("", "--yes")
			w.does(0, "", "boot", "show", w.folder)
		},
	},
}
