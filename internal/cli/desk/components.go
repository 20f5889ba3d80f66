package desk

import (
	"path/filepath"

	"verbund/internal/cli/term"
	"verbund/internal/core/versions"
	"verbund/internal/whole"
)

// The catalogues of a folder of real components: of all of them, and of those of the control
// plane with stand-ins of all others.
const (
	FullCatalogue  = "catalogue.yaml"
	LightCatalogue = "catalogue-light.yaml"
)

// Components reads a catalogue of a folder of real components, as it was given and as it is
// found; the second value is what the file holds.
func Components(given, folder, file string) (*versions.Catalogue, []byte, error) {
	b, err := whole.Read(filepath.Join(folder, file))
	if err != nil {
		return nil, nil, term.Usage("%s has no catalogue of real components: %v; build them with: cd tools/components && go run . -to FOLDER", given, err)
	}
	cat, err := versions.Read(b)
	if err != nil {
		return nil, nil, term.Usage("the catalogue of %s is not used: %v; build the components once more", given, err)
	}
	return cat, b, nil
}
