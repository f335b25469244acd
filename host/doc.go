// Package host is the only code that touches the running machine: it opens
// disks and images, looks at what they hold, and gathers evidence into a bag.
//
//	err := host.Gather(ctx, out, host.GatherOptions{Image: "kestrel-office-3.img", …})
//
// Reading never changes a byte of what is read.
package host
