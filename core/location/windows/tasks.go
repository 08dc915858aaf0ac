package windows

import (
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/taskxml"
	"lockback/core/location"
	"lockback/core/machine"
)

// taskCache is what the scheduler keeps of its tasks in the registry: a tree of
// their names, and what it made of each definition, by an id. A definition whose
// hash is not the one there does not run.
const taskCache = nt + `\Schedule\TaskCache`

// maxTaskDepth is how deep folders of tasks are followed.
const maxTaskDepth = 16

func readTasks(s *location.Survey) {
	root := s.Machine.Canonical(s.Machine.Windows() + `\System32\Tasks`)
	if s.Dir(root) == nil {
		return
	}
	readTaskFolder(s, root, root, 0)
}

func readTaskFolder(s *location.Survey, root, dir string, depth int) {
	entries, err := s.ReadDir(dir)
	if err != nil {
		s.Skip(dir, err)
		return
	}
	for _, e := range entries {
		file := dir + `\` + e.Name()
		switch {
		case e.IsDir() && depth < maxTaskDepth:
			readTaskFolder(s, root, file, depth+1)
		case e.Type().IsRegular() && !strings.HasPrefix(e.Name(), machine.TempPrefix):
			addTask(s, file, strings.TrimPrefix(file, root))
		}
	}
}

// stageOf tells when a trigger starts its task.
var stageOf = map[string]autostart.Stage{
	"BootTrigger": autostart.System, "LogonTrigger": autostart.SignIn, "TimeTrigger": autostart.Schedule, "CalendarTrigger": autostart.Schedule,
	"EventTrigger": autostart.Event, "IdleTrigger": autostart.Event, "RegistrationTrigger": autostart.Event, "SessionStateChangeTrigger": autostart.Event,
	"WnfStateChangeTrigger": autostart.Event,
}

// words for triggers without a schedule.
var triggerWords = map[string]string{
	"BootTrigger": "at startup", "LogonTrigger": "at sign-in", "TimeTrigger": "at a time", "EventTrigger": "on an event", "IdleTrigger": "when idle",
	"RegistrationTrigger": "when it is registered", "SessionStateChangeTrigger": "when a session changes", "WnfStateChangeTrigger": "on a change of state",
}

func addTask(s *location.Survey, file, path string) {
	item := newItem(origin{path: file}, path[strings.LastIndexByte(path, '\\')+1:], "")
	item.Switcher = taskSwitch{file}
	if !s.Machine.Live {
		item.Switcher = location.NoSwitch{Why: "the scheduler keeps a hash over each task that is not documented; turn it off on the running machine, or restore a snapshot that has it off"}
	}
	item.Artifacts = func() []machine.Artifact { return taskArtifacts(s.Machine, file, path) }
	item.Facts = func() []location.Fact { return []location.Fact{{Name: "task", Value: path, Basis: file}} }
	b, err := s.ReadFile(file, machine.MaxFileSize)
	if err != nil {
		s.Skip(file, err)
		return
	}
	task, err := taskxml.Parse(b)
	if err != nil {
		item.Problems, item.Mode = []string{autostart.Unparsable}, "damaged: it does not run"
		item.State = autostart.Disabled
		item.Switcher = location.NoSwitch{Why: "its definition cannot be read"}
		item.Command = oneLine(string(b))
		s.Add(strings.ToLower(path), item)
		return
	}
	describeTask(s, item, task, path)
	s.Add(strings.ToLower(path), item)
}

// oneLine is the beginning of a text, for a person to recognise it by.
func oneLine(t string) string {
	t = strings.Join(strings.Fields(strings.ToValidUTF8(strings.ReplaceAll(t, "\x00", ""), "")), " ")
	if len(t) > 200 {
		t = t[:200]
	}
	return strings.ToValidUTF8(t, "")
}

func describeTask(s *location.Survey, item *location.Item, task *taskxml.Task, path string) {
	if !task.Enabled {
		item.State, item.Mode = autostart.Disabled, "disabled"
	}
	var times []string
	item.Stage = ""
	for _, t := range task.Triggers {
		word := t.Schedule
		if word == "" {
			word = triggerWords[t.Kind]
		}
		if word == "" {
			word = t.Kind
		}
		if t.Interval != "" {
			word += ", again every " + interval(t.Interval)
		}
		if !t.Enabled {
			word += " (off)"
		} else if stage := stageOf[t.Kind]; item.Stage == "" && stage != "" {
			item.Stage = stage
		}
		times = append(times, word)
	}
	if item.Stage == "" {
		item.Stage = autostart.Schedule
	}
	if item.When = strings.Join(times, "; "); item.When == "" {
		item.When = "only by hand or by a program: it has no trigger"
	}
	item.SystemName = path
	switch {
	case len(task.Execs) > 0:
		e := task.Execs[0]
		item.Command = strings.TrimSpace(e.Command + " " + e.Arguments)
		item.CommandLine = strings.TrimSpace(`"` + strings.Trim(e.Command, `"`) + `" ` + e.Arguments)
	case len(task.Handlers) > 0:
		h := task.Handlers[0]
		c := classOf(s, place{}, h.ClassID)
		item.Command = strings.TrimSpace(h.ClassID + " " + h.Data)
		if c.library != "" {
			item.CommandLine = `"` + c.library + `"`
		}
	case len(task.Others) > 0:
		item.Command = strings.Join(task.Others, ", ")
	}
	for n := range s.Machine.Users {
		u := &s.Machine.Users[n]
		if strings.EqualFold(task.UserID, u.SID) || strings.EqualFold(task.UserID[strings.LastIndexByte(task.UserID, '\\')+1:], u.Name) {
			if strings.HasPrefix(u.SID, "S-1-5-21-") {
				item.User, item.For = u.Name, u
			}
		}
	}
	item.Facts = func() []location.Fact {
		facts := []location.Fact{{Name: "task", Value: path, Basis: item.Source.Path}}
		for _, f := range [][2]string{{"triggers", strings.Join(times, "; ")}, {"author", task.Author}, {"description", task.Description}, {"registered", task.Date},
			{"runs as", task.UserID + task.GroupID}, {"rights", task.RunLevel}} {
			if f[1] != "" && !strings.HasPrefix(f[1], "$(@") {
				facts = append(facts, location.Fact{Name: f[0], Value: f[1], Basis: item.Source.Path})
			}
		}
		return facts
	}
}

// interval words a duration of ISO 8601, as far as tasks use them.
func interval(d string) string {
	units := map[byte]string{'D': "d", 'H': "h", 'M': "min", 'S': "s"}
	out, number := "", ""
	for k := range len(d) {
		switch c := d[k]; {
		case c >= '0' && c <= '9':
			number += string(c)
		case units[c] != "" && number != "":
			out = strings.TrimSpace(out + " " + number + " " + units[c])
			number = ""
		}
	}
	if out == "" {
		return d
	}
	return out
}

// taskArtifacts lists what decides a task: its definition, and what the
// scheduler keeps of it.
func taskArtifacts(m *machine.Reader, file, path string) []machine.Artifact {
	list := []machine.Artifact{machine.File(file)}
	tree, err := m.Key(taskCache + `\Tree` + path)
	if err != nil {
		return list
	}
	list = append(list, machine.RegistryTree(tree.Path))
	id := tree.Text("Id")
	if id == "" {
		return list
	}
	list = append(list, machine.RegistryTree(taskCache+`\Tasks\`+id))
	for _, kind := range []string{"Boot", "Logon", "Plain", "Maintenance"} {
		list = append(list, machine.RegistryTree(taskCache+`\`+kind+`\`+id))
	}
	return list
}

// taskSwitch is the scheduler's own switch, on a running machine: the machine
// hands the changed definition to the scheduler.
type taskSwitch struct{ file string }

func (taskSwitch) Word() autostart.Switch { return autostart.TaskEnabled }

func (t taskSwitch) Plan(images location.Images, want location.Want) ([]location.Edit, error) {
	if want.User != nil {
		return nil, location.ErrNotPerUser
	}
	a := machine.File(t.file)
	image, err := images.Image(a)
	if err != nil {
		return nil, err
	}
	content, err := taskxml.SetEnabled(image.Content, want.State == autostart.Enabled)
	if err != nil {
		return nil, err
	}
	return []location.Edit{{Artifact: a, Image: image.WithContent(content, want.Now)}}, nil
}
