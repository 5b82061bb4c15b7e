package journal

// The events of a journal, with the type of their data.
const (
	EventMade         = "made"          // the kit was created: kit.Made
	EventSealed       = "sealed"        // an item or a licence's secrets were sealed: kit.Sealed
	EventPacked       = "packed"        // an app was packed: steps.Packed
	EventAsked        = "asked"         // a licence service is being asked: steps.Asked
	EventRequested    = "requested"     // a request was written to a file: steps.Requested
	EventAnswered     = "answered"      // it answered: licence.Answer
	EventStepDone     = "step-done"     // a manual step of a licence change was done: steps.StepDone
	EventFound        = "found"         // the app was found on the new computer: steps.AppFound
	EventBound        = "bound"         // the new computer was chosen: steps.Bound
	EventChosen       = "chosen"        // the user chose destinations on the new computer: steps.Chosen
	EventPathsPlanned = "paths-planned" // planned changes to an item's settings were sealed: steps.PathUpdates
	EventPlacing      = "placing"       // an item is being put in place: steps.Placed
	EventPlaced       = "placed"        // it is in place: steps.Placed
	EventUndoing      = "undoing"       // an unpack is being undone: steps.Undone
	EventUndone       = "undone"        // an unpack was undone: steps.Undone
	EventChecked      = "checked"       // an item was compared with the old one: steps.Checked
	EventOpened       = "opened"        // the app was checked for its data on the new computer: steps.Opened
	EventSyncOff      = "sync-off"      // the technician confirmed that the app on the old computer no longer syncs
	EventSeen         = "seen"          // a licence's states were observed: steps.Seen
	EventOverridden   = "overridden"    // a gate was overridden: steps.Overridden
	EventAgreed       = "agreed"        // the user agreed to run the commands of an app's card: the commands
	EventTicked       = "ticked"        // exports were imported by hand: steps.Ticked
	EventCopied       = "copied"        // a safety copy has a new state: kit.Copied
	EventStateChosen  = "state-chosen"  // a state of a safety copy is used: steps.StateChosen
	EventTakenBack    = "taken-back"    // another kit takes the move back: steps.TakenBack
	EventReported     = "reported"      // the handover was written: steps.Reported
	EventRetiring     = "retiring"      // an item of the old computer is being set aside: steps.Retired
	EventRetired      = "retired"       // it is set aside: steps.Retired
	EventReturning    = "returning"     // it is being moved back: steps.Retired
	EventReturned     = "returned"      // it was moved back
	EventRemoved      = "removed"       // set-aside data was permanently removed: steps.Removed
	EventStopped      = "stopped"       // a job was stopped: steps.JobState, as it was before
	EventStarted      = "started"       // it was started again: steps.JobState
	EventClosed       = "closed"        // the kit is being emptied: kit.Closed
)
