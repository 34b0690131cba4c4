package job

import (
	"testing"

	"jugatum/internal/change"
	"jugatum/internal/dialect"
)

// TestDigestsHold: the digest of a job is what it was when earlier versions
// recorded it, or a job that was done would be done again. A field that is new in
// a step is left out of the JSON where it is not used; a new form of the digest
// gets the next number before its colon, and the search for runs of the same job
// asks for the older ones as well.
func TestDigestsHold(t *testing.T) {
	for _, x := range []struct{ name, text, digest, written string }{
		{"a statement", "[[step]]\nname = \"s\"\nsql = \"UPDATE berth SET day_rate = day_rate * :rise WHERE id > 5\"\ncheck = [{ sql = \"SELECT count(*) FROM berth\", is = 5 }]\n",
			"2:6c2bc07c4ff1e790c49eebb9e1378d4816aecb6cb9aefc02c8f50ba10e819bc3", "b696efaeaf7a5a85d93af6fbbe57bae546cd2218b99562216da5704a365f6e70"},
		{"fields", tariff,
			"2:788a38add2271c3647ba2880ecb681bc449e5f42f09ee1b865966010093a7f07", "386c2ac92b3df25f28003548cd711cf00c433194d08cc4d88bd79271a71f37e1"},
		{"the first rows", "[[step]]\nname = \"s\"\ntable = \"berth\"\nwhere = \"id > 5\"\norder = \"id\"\nskip = 1\nfirst = 10\nset = { day_rate = \"day_rate + 1\" }\n",
			"2:23fdfbc8b4cce18b825ce53ce3455c8e80af876691f4a096144039640bf18e13", "23fdfbc8b4cce18b825ce53ce3455c8e80af876691f4a096144039640bf18e13"},
		{"once", "[[step]]\nname = \"s\"\ntable = \"berth\"\nonce = \"done\"\nset = { day_rate = \"day_rate + 1\" }\n",
			"2:ce188d9efde92bd26af359443ac16dfccd722da14a5d9010e7b1600aa1d6f055", "ce188d9efde92bd26af359443ac16dfccd722da14a5d9010e7b1600aa1d6f055"},
		{"a delete", "[[step]]\nname = \"s\"\ntable = \"berth\"\ndelete = true\nwhere = \"id > 5\"\n",
			"2:ee5ce40931dae8a32eec3c3a1cbbc510700b511f350f5c0d96df7ef39847795e", "ee5ce40931dae8a32eec3c3a1cbbc510700b511f350f5c0d96df7ef39847795e"},
		{"a replacement", "[[step]]\nname = \"s\"\nin = [\"berth.note\", \"berth.*\"]\nexcept = [\"berth.name\"]\nreplace = { find = \"http://\", with = \"https://\", forms = [\"json\"], whole_words = true }\n",
			"2:2c2b44eb974e34e42f9707d7392ef9a84781bac726c7922f6049bbd33488e38c", "2c2b44eb974e34e42f9707d7392ef9a84781bac726c7922f6049bbd33488e38c"},
	} {
		j, err := Parse("x.toml", []byte(x.text))
		if err != nil {
			t.Errorf("%s: %v", x.name, err)
			continue
		}
		values := map[string]change.Value{"rise": {Type: "decimal", Text: "1.05"}}
		if got := j.Digest(dialect.SQLite, values); got != x.digest {
			t.Errorf("%s: the digest is %s", x.name, got)
		}
		if got := j.WrittenDigest(values); got != x.written {
			t.Errorf("%s: the first form of the digest is %s", x.name, got)
		}
	}
}
