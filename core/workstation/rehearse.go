package workstation

// A rehearsal is what taking back some changes would leave: the changes that would be gone then, and the files.
type rehearsal struct {
	undone []int
	states map[string]fileState
}

// A Foreseen is what taking one change back would do.
type Foreseen struct {
	ID          int
	Differences []Difference
	Err         error // why it cannot be taken back; nil when it can
}

// Rehearse says what taking changes back in this order would do, and touches nothing.
func (s *Station) Rehearse(ids []int) ([]Foreseen, error) {
	var list []Foreseen
	so := rehearsal{states: map[string]fileState{}}
	return list, s.whileLocked(func() error {
		for _, id := range ids {
			change, err := s.find(id)
			if err != nil {
				return err
			}
			foreseen := Foreseen{ID: id}
			if foreseen.Differences, foreseen.Err = s.undoable(change, so); foreseen.Err == nil {
				so.undone = append(so.undone, id)
			}
			list = append(list, foreseen)
		}
		return nil
	})
}
