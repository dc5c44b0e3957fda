package ingest

// What headings are usually called, in a dozen languages, matched loosely.

import (
	"cmp"
	"slices"
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"
)

// usual are phrases for the columns of workloads, without accents, in lower case:
// English, German, French, Spanish, Italian, Portuguese, Dutch, Swedish, Danish and
// Norwegian, Finnish, Polish, Czech, Hungarian, Turkish.
var usual = map[string][]string{
	"id": {"id", "uuid", "asset", "asset id", "asset tag", "inventory number", "serial", "serial number",
		"machine id",
		"vm id", "inventarnummer", "inventar nr", "geratenummer", "anlagennummer", "numero inventaire", "identifiant",
		"numero inventario", "identificador", "identificativo", "inventarisnummer", "inventarienummer",
		"inventarnummer", "tunnus", "numer inwentarzowy", "inventarni cislo", "leltari szam", "envanter no", "ci"},
	"name": {"name", "host", "hostname", "host name", "server", "server name", "machine", "machine name", "vm",
		"vm name", "fqdn", "dns name", "computer", "rechnername", "rechner", "servername", "gerat", "geratename",
		"bezeichnung", "systemname", "nom", "nom hote", "hote", "nom machine", "serveur", "nombre", "nombre equipo",
		"equipo", "servidor", "nome", "nome host", "macchina", "maquina", "naam", "hostnaam", "servernaam", "namn",
		"vardnamn", "navn", "vertsnavn", "maskinnavn", "nimi", "isantanimi", "nazwa", "nazwa hosta", "nazev",
		"jmeno", "nev", "gepnev", "ad", "sunucu", "sunucu adi", "makine adi"},
	"addresses": {"addresses", "address", "ip", "ips", "ip address", "ip addresses", "ipv4", "ipv6", "ipv4 address",
		"ipv6 address", "primary ip", "ip adresse", "ip adressen", "adresse", "adresse ip", "adresses ip",
		"direccion ip", "direcciones ip", "direccion", "indirizzo ip", "indirizzo", "indirizzi ip", "endereco ip",
		"endereco", "ip adres", "adres", "ip adress", "adress", "ip osoite", "osoite", "adres ip", "adresy ip",
		"ip adresa", "adresa", "ip cim", "cim", "ip adresi", "adresi"},
	"os": {"os", "operating system", "platform", "betriebssystem", "systeme exploitation", "sistema operativo",
		"sistema operacional", "besturingssysteem", "operativsystem", "operativsystem", "kayttojarjestelma",
		"system operacyjny", "operacni system", "operacios rendszer", "isletim sistemi"},
	"kind": {"kind", "type", "machine type", "hardware", "art", "typ", "geratetyp", "tipo", "soort", "slag", "laji",
		"rodzaj", "druh", "tipus", "tur"},
	"from": {"from", "since", "valid from", "start", "gultig ab", "ab", "seit", "depuis", "desde", "dal", "vanaf",
		"fran", "fra", "alkaen", "od"},
	"until": {"until", "valid until", "valid to", "end", "gultig bis", "bis", "jusqu a", "hasta", "fino a", "ate",
		"tot",
		"till", "til", "asti", "do"},
	"tag:app": {"app", "application", "service", "system", "anwendung", "applikation", "fachanwendung", "verfahren",
		"aplicacion", "applicazione", "aplicacao", "applicatie", "toepassing", "tillampning", "applikasjon",
		"anvendelse", "sovellus", "aplikacja", "aplikace", "alkalmazas", "uygulama"},
	"tag:tier": {"tier", "role", "layer", "function", "rolle", "funktion", "schicht", "ebene", "fonction", "couche",
		"rol", "capa", "funcion", "ruolo", "livello", "papel", "camada", "funcao", "laag", "functie", "roll",
		"funksjon",
		"rooli", "kerros", "rola", "warstwa", "role", "vrstva", "szerep", "reteg", "katman"},
	"tag:env": {"env", "environment", "stage", "umgebung", "stufe", "environnement", "entorno", "ambiente",
		"omgeving",
		"miljo", "ymparisto", "srodowisko", "prostredi", "kornyezet", "ortam"},
	"tag:site": {"site", "location", "data centre", "datacentre", "data center", "datacenter", "dc", "standort",
		"rechenzentrum", "rz", "emplacement", "centre donnees", "ubicacion", "sede", "localizacao", "locatie",
		"plats",
		"sted", "lokasjon", "sijainti", "lokalizacja", "umisteni", "lokalita", "helyszin", "konum", "lokasyon"},
	"tag:owner": {"owner", "team", "responsible", "contact", "verantwortlich", "verantwortlicher", "besitzer",
		"abteilung", "ansprechpartner", "responsable", "proprietaire", "equipe", "propietario", "responsabile",
		"proprietario", "responsavel", "eigenaar", "verantwoordelijke", "agare", "eier", "ejer", "omistaja",
		"wlasciciel", "vlastnik", "tulajdonos", "felelos", "sahip", "sorumlu"},
}

// usualFlows are phrases for the columns of flows but for the two ends, which
// are made of ends, addresses and ports.
var usualFlows = map[string][]string{
	"start": {"start", "start time", "starttime", "first", "first seen", "flow start", "begin", "time", "timestamp",
		"date", "datetime", "date time", "ts", "start ts", "flow start milliseconds", "flow start seconds", "zeit",
		"zeitpunkt", "zeitstempel", "datum", "beginn", "startzeit", "uhrzeit", "heure", "date heure", "horodatage",
		"debut", "fecha", "hora", "fecha hora", "inicio", "marca tiempo", "data", "ora", "data ora", "inizio",
		"data hora", "tijd", "tijdstip", "begin", "tid", "tidpunkt", "tidsstempel", "starttid", "aika", "aikaleima",
		"alku", "czas", "data czas", "poczatek", "cas", "zacatek", "ido", "idopont", "kezdet", "zaman", "tarih",
		"baslangic"},
	"end": {"end", "te", "end time", "endtime", "last", "last seen", "flow end", "finish", "end ts",
		"flow end milliseconds",
		"flow end seconds", "ende", "endzeit", "fin", "heure fin", "fine", "fim", "einde", "slut", "slutt", "loppu",
		"koniec", "konec", "veg", "bitis"},
	"proto": {"proto", "pr", "protocol", "ip protocol", "ip proto", "transport", "protocol identifier", "protokoll",
		"protocole", "protocolo", "protocollo", "protokol", "protokolla", "protokola"},
	"bytes": {"bytes", "ibyt", "in bytes", "octets", "total bytes", "byte count", "size", "octet delta count",
		"num bytes", "volume",
		"datenmenge", "volumen", "oktette", "octetos", "volumen", "dimensione", "tavua", "bajty", "bajtow", "bajtu",
		"bajt", "boyut", "oktety"},
	"packets": {"packets", "ipkt", "in packets", "pkts", "packet count", "packet delta count", "num packets", "pakete",
		"paquets",
		"paquetes", "pacchetti", "pacotes", "pakketten", "paket", "pakker", "paketit", "pakiety", "pakety",
		"csomagok",
		"paketler"},
	"connections": {"connections", "flows", "count", "sessions", "hits", "verbindungen", "anzahl", "connexions",
		"conexiones", "connessioni", "conexoes", "verbindingen", "anslutningar", "forbindelser", "yhteydet",
		"polaczenia", "spojeni", "kapcsolatok", "baglantilar"},
	"outcome": {"outcome", "action", "result", "disposition", "verdict", "status", "decision", "aktion", "ergebnis",
		"entscheidung", "massnahme", "resultat", "accion", "resultado", "azione", "esito", "risultato", "acao",
		"actie",
		"resultaat", "atgard", "handling", "toimenpide", "akcja", "wynik", "akce", "vysledek", "muvelet", "eredmeny",
		"eylem", "islem", "sonuc", "firewall event", "forwarding status"},
	"service": {"service"},
	"dropped": {"dropped", "dropped connections"},
	"observer": {"observer", "exporter", "sensor", "device", "reporter", "firewall", "gerat", "melder", "appareil",
		"pare feu", "dispositivo", "cortafuegos", "apparaat", "enhet", "enhed", "laite", "urzadzenie", "zarizeni",
		"eszkoz", "cihaz"},
}

// Words of the two ends of a flow, of addresses and ports.
var (
	sourceWords = []string{"src", "source", "client", "from", "initiator", "sender", "orig", "originator", "quell",
		"quelle", "absender", "von", "origen", "origine", "origem", "mittente", "sorgente", "bron", "kalla", "kall",
		"kilde",
		"lahde", "zrodlo", "zrodlowy", "zdroj", "zdrojova", "forras", "kaynak", "emetteur", "expediteur", "s"}
	serverWords = []string{"dst", "dest", "destination", "server", "to", "responder", "resp", "receiver", "target",
		"ziel", "empfanger", "nach", "destino", "destinazione", "destinatario", "cible", "doel", "bestemming", "mal",
		"maal", "kohde", "cel", "docelowy", "cil", "cilova", "hedef", "cel", "d"}
	addressWords = []string{"ip", "ips", "addr", "address", "ipaddr", "ipaddress", "ipv4", "ipv6", "host", "adresse",
		"adres", "adress", "direccion", "indirizzo", "endereco", "adresa", "cim", "osoite", "adresi", "h", "a"}
	portWords = []string{"port", "dport", "sport", "puerto", "porta", "poort", "porto", "portti", "p",
		"dienst", "servicio", "servizio"}
)

// longestHeading is of a heading that may be a usual one.
const longestHeading = 100

// wordsOf cuts a heading into words without accents, in lower case: srcIpAddress
// and Quell-IP are three and two.
func wordsOf(heading string) []string {
	if len(heading) > longestHeading {
		return nil
	}
	var b strings.Builder
	before := rune(0)
	for _, r := range norm.NFD.String(heading) {
		switch {
		case unicode.Is(unicode.Mn, r):
			continue
		case !unicode.IsLetter(r) && !unicode.IsDigit(r):
			r = ' '
		case unicode.IsUpper(r) && (unicode.IsLower(before) || unicode.IsDigit(before)):
			b.WriteByte(' ')
		}
		before = r
		b.WriteRune(unicode.ToLower(r))
	}
	var out []string
	for _, w := range strings.Fields(strings.NewReplacer("ł", "l", "ø", "o", "ß", "ss", "æ", "ae", "ı", "i").Replace(
		b.String())) {
		out = append(out, apartWords(w)...)
	}
	return out
}

// apartWords cuts srcip, quelladresse and zielport in two.
func apartWords(w string) []string {
	for _, ends := range [][]string{sourceWords, serverWords} {
		for _, e := range ends {
			if rest, ok := strings.CutPrefix(w, e); ok && len(e) > 1 && len(rest) > 1 &&
				(slices.Contains(addressWords, rest) || slices.Contains(portWords, rest)) {
				return []string{e, rest}
			}
		}
	}
	switch w {
	case "dport":
		return []string{"dst", "port"}
	case "sport":
		return []string{"src", "port"}
	case "saddr", "sip":
		return []string{"src", "ip"}
	case "daddr", "dip", "da":
		return []string{"dst", "ip"}
	case "sa":
		return []string{"src", "ip"}
	case "sp":
		return []string{"src", "port"}
	case "dp":
		return []string{"dst", "port"}
	case "src4", "src6":
		return []string{"src"}
	case "dst4", "dst6":
		return []string{"dst"}
	}
	return []string{w}
}

// fit reports how badly a heading fits a column: how many words it has beside those
// of a phrase, -1: not at all; and how many words the phrase has.
func fit(words []string, phrases [][]string) (best, length int) {
	best = -1
	for _, p := range phrases {
		if len(p) == 0 || len(p) > len(words) {
			continue
		}
		all := true
		for _, w := range p {
			all = all && slices.Contains(words, w)
		}
		if extra := len(words) - len(p); all && (best < 0 || extra < best) {
			best, length = extra, len(p)
		}
	}
	return best, length
}

// endPhrases returns the phrases for an end's address or port.
func endPhrases(ends, what []string, alone bool) (out [][]string) {
	for _, e := range ends {
		if alone && len(e) > 1 {
			out = append(out, []string{e})
		}
		for _, w := range what {
			if len(e)+len(w) > 2 {
				out = append(out, []string{e, w})
			}
		}
	}
	return out
}

func phrasesOf(texts []string) (out [][]string) {
	for _, t := range texts {
		out = append(out, strings.Fields(t))
	}
	return out
}

var (
	workloadPhrases = phrasesBy(usual)
	flowPhrases     = func() map[string][][]string {
		m := phrasesBy(usualFlows)
		m["src"] = endPhrases(sourceWords, addressWords, true)
		m["dst"] = endPhrases(serverWords, addressWords, true)
		m["sport"] = endPhrases(sourceWords, portWords, false)
		m["dport"] = append(endPhrases(serverWords, portWords, false), phrasesOf(portWords[:1])...)
		m["dport"] = append(m["dport"], []string{"service", "port"}, []string{"puerto"}, []string{"porta"},
			[]string{"poort"}, []string{"portti"})
		return m
	}()
)

func phrasesBy(m map[string][]string) map[string][][]string {
	out := map[string][][]string{}
	for to, texts := range m {
		out[to] = phrasesOf(texts)
	}
	return out
}

// Guess maps headings of workloads by what they are usually called: each column
// once, the better fit first. Without an id, the name is the id.
func Guess(headings []string) Mapping {
	m, taken := guess(headings, append(slices.Clone(columns), "tag:app", "tag:tier", "tag:env", "tag:site",
		"tag:owner"), workloadPhrases, "addresses")
	if !taken["id"] {
		for _, h := range headings {
			if m[h] == "name" {
				m[h] = "id"
			}
		}
	}
	return m
}

// GuessFlows maps headings of flows by what they are usually called.
func GuessFlows(headings []string) Mapping {
	m, taken := guess(headings, slices.Concat(flowColumns, combined[:2]), flowPhrases, "")
	if taken["proto"] && taken["dport"] { // then a service is a name that somebody gave to both
		for h, to := range m {
			if to == "service" {
				m[h] = ""
			}
		}
	}
	joinDays(headings, m)
	joinReplies(headings, m, strings.Fields("bytes octets byt ibyt obyt"), "bytes")
	joinReplies(headings, m, strings.Fields("packets pkts pkt ipkt opkt"), "packets")
	return m
}

// Words for a day, and for a time of the day, that stand in two columns.
var (
	dayWords  = strings.Fields("date day datum tag jour fecha dia data giorno dag paiva dzien den tarih")
	timeWords = strings.Fields("time hour uhrzeit zeit heure hora ora tijd tid klokkeslett kello godzina cas ido saat")
	// Directions, as from the client and as from the server; which is which does not matter for a sum.
	directions = [][2]string{{"out", "in"}, {"sent", "received"}, {"sent", "rcvd"}, {"sent", "recv"}, {"tx", "rx"},
		{"up", "down"}, {"upload", "download"}, {"orig", "resp"}, {"fwd", "bwd"}, {"forward", "backward"},
		{"forward", "reverse"}, {"src", "dst"}, {"source", "destination"}, {"client", "server"},
		{"request", "response"},
		{"c2s", "s2c"}, {"toserver", "toclient"}, {"obyt", "ibyt"}, {"opkt", "ipkt"}}
)

// joinDays reads two columns, one of days and one of times of the day, as one start.
func joinDays(headings []string, m Mapping) {
	day, hour := "", ""
	for _, h := range headings {
		words := slices.DeleteFunc(wordsOf(h), func(w string) bool { return w == "start" || w == "flow" })
		if len(words) != 1 || m[h] != "" && m[h] != "start" {
			continue
		}
		switch {
		case slices.Contains(dayWords, words[0]) && day == "":
			day = h
		case slices.Contains(timeWords, words[0]) && hour == "":
			hour = h
		}
	}
	for h, to := range m {
		if to == "start" && h != day && h != hour {
			return // it has a time of its own
		}
	}
	if day != "" && hour != "" {
		m[day], m[hour] = "date", "start"
	}
}

// joinReplies reads two columns of one amount, for each direction, as its sum: what goes there as
// the column, what comes back as "reply" and the column. A column for both directions wins.
func joinReplies(headings []string, m Mapping, units []string, column string) {
	for _, d := range directions {
		var there, back string
		for _, h := range headings {
			words := wordsOf(h)
			if len(words) > 3 || m[h] != "" && m[h] != column || !slices.ContainsFunc(words, func(w string) bool {
				return slices.Contains(units, w)
			}) {
				continue
			}
			switch {
			case slices.Contains(words, d[0]):
				there = h
			case slices.Contains(words, d[1]):
				back = h
			}
		}
		if there == "" || back == "" {
			continue
		}
		for h, to := range m {
			if to == column && h != there && h != back {
				return
			}
		}
		m[there], m[back] = column, "reply "+column
		return
	}
}

// mostExtra is how many words a heading may have beside those of a phrase.
const mostExtra = 2

func guess(headings, columns []string, phrases map[string][][]string, many string) (m Mapping,
	taken map[string]bool) {
	m, taken = Mapping{}, map[string]bool{}
	for _, h := range headings {
		if key, isTag := strings.CutPrefix(h, "tag:"); slices.Contains(columns, h) || isTag && key != "" &&
			many != "" {
			m[h], taken[h] = h, true
		}
	}
	type candidate struct {
		heading, column, extra, length int
	}
	var all []candidate
	for i, h := range headings {
		words := wordsOf(h)
		for k, to := range columns {
			if extra, length := fit(words, phrases[to]); extra >= 0 && extra <= mostExtra {
				all = append(all, candidate{i, k, extra, length})
			}
		}
	}
	slices.SortStableFunc(all, func(a, b candidate) int {
		return cmp.Or(a.extra-b.extra, b.length-a.length, a.column-b.column, a.heading-b.heading)
	})
	for _, c := range all {
		h, to := headings[c.heading], columns[c.column]
		if _, done := m[h]; !done && (!taken[to] || to == many) {
			m[h], taken[to] = to, true
		}
	}
	for _, h := range headings {
		if _, done := m[h]; !done {
			m[h] = ""
		}
	}
	return m, taken
}
