package journal

// The events of a journal, and what the data of each is.
const (
	EventMade       = "made"       // the kit was made: kit.Made
	EventSealed     = "sealed"     // an item, or a licence's facts, are sealed: kit.Sealed
	EventPacked     = "packed"     // an app is sealed: steps.Packed
	EventAsked      = "asked"      // a licence service is being asked: steps.Asked
	EventRequested  = "requested"  // a request was written to a file: steps.Requested
	EventAnswered   = "answered"   // it answered: licence.Answer
	EventStepped    = "stepped"    // a person took one step of a licence's change: steps.Stepped
	EventLooked     = "looked"     // the app on the new computer was looked at: steps.Looked
	EventBound      = "bound"      // this is the new computer: steps.Bound
	EventChosen     = "chosen"     // a person said where things go on the new computer: steps.Chosen
	EventRepointed  = "repointed"  // what is about to be changed in an item's settings is sealed: steps.Repointed
	EventPlacing    = "placing"    // an item is being put in place: steps.Placed
	EventPlaced     = "placed"     // it is in place: steps.Placed
	EventUndoing    = "undoing"    // it is being taken back: steps.Undone
	EventUndone     = "undone"     // it is taken back: steps.Undone
	EventChecked    = "checked"    // an item was held against the old one: steps.Checked
	EventOpened     = "opened"     // the app itself showed its data on the new computer, or not: steps.Opened
	EventSilenced   = "silenced"   // a person said that the app on the old computer syncs no more
	EventSeen       = "seen"       // a licence's states were looked at: steps.Seen
	EventOverridden = "overridden" // a gate was overridden: steps.Overridden
	EventAgreed     = "agreed"     // a person agreed to run the commands of an app's card: the commands
	EventTicked     = "ticked"     // a person has taken in exports: steps.Ticked
	EventReported   = "reported"   // the hand-over was written: steps.Reported
	EventRetiring   = "retiring"   // an item of the old computer is being set aside: steps.Retired
	EventRetired    = "retired"    // it is set aside: steps.Retired
	EventReturning  = "returning"  // it is about to get its name back
	EventReturned   = "returned"   // it has its name back
	EventRemoved    = "removed"    // what was set aside is removed for good: steps.Removed
	EventClosed     = "closed"     // the kit is being emptied: kit.Closed
)
