package evidence

// Said is a person's answer to a question that only a person can answer. The questions stand in package verdict.
type Said struct {
	Question string
	Answer   string
}
