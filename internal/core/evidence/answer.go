package evidence

// Answer is a person's answer to a question that only a person can answer. The questions stand in package verdict.
type Answer struct {
	Question string
	Answer   string
}
