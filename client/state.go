package client

// A CaseState is how far a case has come.
type CaseState string

// The states of a case.
const (
	Received   CaseState = "received"   // on disk and in the queue
	Reading    CaseState = "reading"    // a worker is at it
	Open       CaseState = "open"       // its docket is there
	Climbing   CaseState = "climbing"   // a climb is under way
	Unreadable CaseState = "unreadable" // it was accepted and cannot be read; Problem says why
	Healthy    CaseState = "healthy"    // it was read, and nothing failed
	Closed     CaseState = "closed"     // somebody, or newer evidence, says that it is done
)

// CaseStates lists those that there are.
func CaseStates() []CaseState {
	return []CaseState{Received, Reading, Open, Climbing, Unreadable, Healthy, Closed}
}

// A ClimbState is how far a climb has come.
type ClimbState string

// The states of a climb.
const (
	Running ClimbState = "running"
	Ended   ClimbState = "ended"   // the run's outcome says how
	CutOff  ClimbState = "cut off" // it was told to stop, failed in the middle, or fell silent
)

// ClimbStates lists those that there are.
func ClimbStates() []ClimbState { return []ClimbState{Running, Ended, CutOff} }
