package rest

// MembershipChange is when a workload joined or left a group, and why.
type MembershipChange struct {
	At       string `json:"at"`
	Workload string `json:"workload"`
	Name     string `json:"name"`
	Before   string `json:"before" enum:"yes,no,undecided"`
	After    string `json:"after" enum:"yes,no,undecided"`
	Why      string `json:"why"`
}
