package keep

type StoreSaid struct {
	Store      string `json:"store"` // folder
	Protection string `json:"protection"`
	Recipient  string `json:"recipient"`
	KeyFile    string `json:"keyFile"`
	Opens      bool   `json:"opens"`
}

type StoreChecked struct {
	Store  string   `json:"store"`
	Damage []string `json:"damage"` // what is not as it was written
}
