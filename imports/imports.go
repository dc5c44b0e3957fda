package imports

import "lucidorchard/ingest"

// ImportOptions say how a file is read, and what it is.
type ImportOptions struct {
	Source string // of workloads: the inventory source
	// Form is the format of the file; what it leaves open is as it was before, or
	// as guessed.
	Form       ingest.Form
	Complete   bool     // of workloads: this is all that the source lists
	Confirm    int      // of a complete list that lacks much: how many it lacks, if it is whole all the same
	Directions bool     // of flows: each row is one direction; the two are joined
	Carriers   bool     // of a capture: what carries other packets counts as well as what it carries
	Name       string   // of flows: of the file, for records that name no observer
	Accept     []string // of flows: kinds of questions that somebody has said yes to
}

// ImportReport is what a file says and what taking it does.
type ImportReport struct {
	Rows       int               `json:"rows" doc:"Data rows of the file"`
	Bad        int               `json:"bad" doc:"Rows that cannot be used"`
	Errors     []ingest.RowError `json:"errors" doc:"The first of them"`
	Warnings   []string          `json:"warnings"`
	Added      int               `json:"added" doc:"New workloads, or conversation-hours"`
	Changed    int               `json:"changed" doc:"Workloads that change"`
	Same       int               `json:"same"`
	Kept       int               `json:"kept" doc:"Tag values that stay because they were set by hand or come from a higher source"`
	Examples   []ImportExample   `json:"examples" doc:"The first workloads that are new or change"`
	NewWords   []string          `json:"newWords" doc:"Tag values that nothing had before"`
	From       string            `json:"from,omitempty" doc:"Of flows: the span they cover"`
	To         string            `json:"to,omitempty"`
	Outside    int               `json:"outside" doc:"Of flows: those with an end that no workload has"`
	Unsure     int               `json:"unsure" doc:"Of flows: records whose direction is not certain"`
	FileFormat string            `json:"fileFormat,omitempty" doc:"Of flows: the format of the file"`
	Headings   []string          `json:"headings,omitempty" doc:"Of a table"`
	First      [][]string        `json:"first,omitempty" doc:"Its first rows"`
	Form       *ingest.Form      `json:"form,omitempty" doc:"How the file is read, with the guesses"`
	Words      []ingest.WordUse  `json:"words,omitempty" doc:"Of flows: its words for outcomes and protocols"`
	Questions  []ingest.Question `json:"questions,omitempty" doc:"Of flows: about rows that are left out until accept names their kind"`
	Held       int               `json:"held" doc:"Rows that are left out for a question"`
	Carried    bool              `json:"carried,omitempty" doc:"Of a capture: packets carry other packets (GRE, VXLAN and so on); carriers says whether both count"`
	BadKinds   []ingest.BadKind  `json:"badKinds" doc:"The errors by kind; the most frequent first"`
	Unusable   string            `json:"unusable,omitempty" doc:"Why nothing can be read in this way"`
	Confirm    int               `json:"confirm,omitempty" doc:"Of a complete list that lacks much: the value of confirm, if it is complete nevertheless"`
	Missing    int               `json:"missing" doc:"Of a complete list: workloads that the source has listed and that are not in it"`
	Retired    []string          `json:"retired,omitempty" doc:"Of these, those that no other source lists: they were retired"`
	Already    string            `json:"already,omitempty" doc:"The same file was counted before: when"`
}

// ImportExample is a workload with what the import does to it.
type ImportExample struct {
	ID   string   `json:"id"`
	New  bool     `json:"new"`
	What []string `json:"what"`
}

// ShownErrors is how many bad rows a report names.
const ShownErrors = 200

const ShownExamples = 20
