"""The kinds of tables that Nibbet reads, their columns, and the words of their headers in many languages."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Type = Literal["date", "address", "text", "count", "number", "place", "flag"]


@dataclass(frozen=True)
class Column:
    """One column: the type of its values, and header words, the most specific first; all words of one entry must occur."""

    name: str
    type: Type
    words: tuple[str, ...]
    required: bool = False


def _column(name: str, type: Type, words: str, *, required: bool = False) -> Column:
    return Column(name, type, tuple(word.strip() for word in words.split("|")), required)


DATE = _column(
    "date",
    "date",
    "date|day|timestamp|time stamp|ts|datum|tag|fecha|dia|jour|giorno|data|dag|dato|dzien|week|woche|semaine|semana|month|monat|mois|mes|mese|maand|quarter|quartal|trimestre|kwartaal|kvartal|period|periode|zeitraum|periodo|日付|日期|дата|день|tarih|gun|hafta|ay|날짜|일자|ημερομηνια|ημερα|den|tyden|mesic|mesicne|paiva|datum dne|nap|ziua|zi|semana|trimestre|неделя|месяц|週|周|月|月份|年月",
)
DEVICE = _column(
    "device", "text", "device|device type|gerat|geratetyp|gerateart|appareil|dispositivo|apparaat|enhet|urzadzenie|デバイス|设备|устройство"
)
COUNTRY = _column("country", "text", "country|land|pays|pais|paese|kraj|market|国|国家|страна")
#: the host of a path in the same row; header words must name it outright, since other columns hold hosts too
HOST = _column(
    "host",
    "address",
    "hostname|host name|host|domain|domain name|vhost|virtual host|hote|nom d hote|dominio|domaine|domein|doman|domene|domena|домен|хост|ホスト名|主机名|호스트 이름",
)
PAGE_WORDS = (
    "page|address|url|urls|web address|page address|landing page|target page|linked page|seite|zielseite|einstiegsseite|adresse|seitenadresse|page de destination|"
    "pagina|pagina de destino|pagina di destinazione|sida|malsida|side|strona|landingspagina|bestemmingspagina|entry page|link|path|pfad|chemin|location|adresse de la page|direccion|indirizzo|adres|adress|nettadresse|ページ|页面|网页|страница|адрес|pagina de entrada|pagina de destino|sayfa|acilis sayfasi|adres|baglanti|페이지|방문 페이지|주소|σελιδα|διευθυνση|stranka|vstupni stranka|adresa|sivu|aloitussivu|osoite|oldal|cim|страница входа|landing page url"
)

PUBLISHED_WORDS = "published|went live|first online|posted|posted on|posted at|date posted|post published|started|started on|written on|date written|live since|online since|go live date|launched|launched on|launch date|mis en ligne|mise en ligne|date de mise en ligne|online seit|freigeschaltet am|en linea desde|online dal|online sinds|first published|publication date|published on|publish date|published at|date published|date of publication|post date|publicado em|publicada em|data de publicacao|yayin tarihi|yayinlanma|게시일|발행일|ημερομηνια δημοσιευσης|publikovano|datum publikace|julkaistu|megjelent|publicat|дата публикации|veroffentlicht|erscheinungsdatum|publie|publie le|publiee le|date de publication|publicado|publicada|fecha de publicacion|pubblicato|pubblicata|gepubliceerd|publicerad|publisert|udgivet|opublikowano|data publikacji|公開日|发布日期|опубликовано|created|created at|created on|date created|creation date|erstellt|erstellt am|cree le|date de creation|creado|fecha de creacion|creato|data di creazione|data de criacao|aangemaakt|skapad|oprettet|utworzono|作成日|创建时间|создано"

#: whether a page is published at all, in lists of content systems
STATE_WORDS = "state|status|post status|page status|content status|publication status|publishing status|publish status|workflow state|visibility|published|is published|live|online|public|zustand|veroffentlichungsstatus|sichtbarkeit|veroffentlicht|statut|etat|publie|estado|visibilidad|publicado|stato|pubblicato|situacao|toestand|gepubliceerd|tillstand|tila|stav|durum|公開状態|ステータス|状態|状态|статус|상태"
SLUG_WORDS = (
    "slug|slugs|post slug|page slug|url slug|slug url|post name|url key|url handle|handle|urlslug|kurzname|identifiant url|url amigable"
)


QUERY_WORDS = (
    "query|queries|search term|search query|searched for|search words|keyword|term|phrase|search phrase|suchbegriff|suchanfrage|suchanfragen|suchwort|requete|requetes|mot cle|terme|consulta|consultas|palabra clave|"
    "termino|parola chiave|ricerca|zoekterm|zoekopdracht|sokord|sokfraga|soegeord|zapytanie|fraza|検索クエリ|クエリ|検索語句|検索キーワード|キーワード|检索词|查询|запрос|sorgu|arama terimi|anahtar kelime|검색어|검색 쿼리|키워드|ερωτημα|λεξη κλειδι|dotaz|vyhledavaci dotaz|hakusana|hakulauseke|kereses|kulcsszo|interogare|cuvant cheie|slowo kluczowe|avainsana|klicove slovo|ключевое слово|фраза|搜索词|关键词"
)

SEARCH = [
    DATE,
    _column("page", "address", PAGE_WORDS),
    _column("query", "text", QUERY_WORDS),
    COUNTRY,
    DEVICE,
    _column("surface", "text", "surface|search type|result type|suchart|type de recherche|tipo de busqueda|vertical"),
    _column(
        "clicks",
        "count",
        "clicks|click|visits from search|klicks|klick|clics|clic|cliques|clique|klikken|klik|klikniecia|klickningar|kliks|クリック数|クリック|点击|点击次数|клики|tiklama|tiklamalar|tiklama sayisi|클릭|클릭수|κλικ|kliknuti|prokliky|klikkaukset|kattintasok|clicuri|клик",
        required=True,
    ),
    _column(
        "impressions",
        "count",
        "impressions|impression|impr|shown|times shown|times seen|views in results|displays|einblendungen|impressionen|anzeigen|affichages|impresiones|apariciones|"
        "impressoes|impressioni|vertoningen|visningar|visninger|wyswietlenia|表示回数|展示|展示次数|показы|gosterim|gosterimler|gosterim sayisi|노출|노출수|εμφανισεις|zobrazeni|nayttokerrat|megjelenesek|afisari|показ",
        required=True,
    ),
    _column(
        "position",
        "place",
        "position|rank|place|average position|mean position|mean rank|avg position|avg pos|pos|average rank|mittlere position|durchschnittliche position|rang|platz|position moyenne|posicion media|posicion|posicao|posizione|positie|pozycja|placering|"
        "掲載順位|排名|позиция|konum|ortalama konum|sira|게재순위|순위|평균 게재순위|θεση|μεση θεση|pozice|prumerna pozice|sijainti|pozicio|pozitie|средняя позиция|平均排名",
    ),
]

LANDINGS = [
    DATE,
    HOST,
    _column("page", "address", PAGE_WORDS, required=True),
    _column(
        "channel",
        "text",
        "channel|channel group|kanal|canal|canale|kanaal|チャネル|渠道|канал|kanal grubu|trafik kanali|채널|καναλι|kanal navstev|csatorna|kanava|kanavaryhma|kanalgruppe|kanalgruppierung|standardkanal|groupe de canaux|canal par defaut|grupo de canales|gruppo di canali|kanaalgroep|kanalgrupp|kanalgruppering|チャネルグループ|渠道组",
    ),
    _column("source", "text", "source|quelle|fuente|fonte|bron|origine|kalla"),
    _column("medium", "text", "medium|support|medio|mezzo"),
    DEVICE,
    COUNTRY,
    _column(
        "sessions",
        "count",
        "sessions|session|visits|entrances|sitzungen|besuche|seances|visites|sesiones|visitas|sessoes|sessioni|visite|sessies|bezoeken|sessioner|besok|sesje|wizyty|"
        "セッション|会话|会话数|сеансы|визиты|oturum|oturumlar|ziyaretler|세션|세션수|방문수|συνεδριες|επισκεψεις|navstevy|relace|istunnot|kaynnit|munkamenetek|latogatasok|sesiuni|vizite|посещения",
        required=True,
    ),
    _column(
        "engaged_sessions",
        "count",
        "engaged sessions|engaged visits|interessierte sitzungen|visites avec interaction|visites avec engagement|seances avec engagement|sessions avec engagement|besuche mit interaktion|visitas con interaccion|visite con interazione|sessioni con interazione|sitzungen mit interaktion|seances avec interaction|sesiones con interaccion|"
        "sesiones comprometidas|sesiones activas|sessioni coinvolte|sessioni attive|betrokken sessies|engagierte sitzungen|interagierte sitzungen|visites engagees|sessions engagees|sessoes engajadas|sessoes envolvidas|"
        "engagerade sessioner|engasjerte okter|aktivne sesje|zaangazowane sesje|エンゲージのあったセッション|互动会话|engaged|etkilesimli oturumlar|etkilesimde bulunulan oturumlar|참여 세션|참여 세션수|zapojene navstevy|вовлеченные визиты|вовлеченные сеансы|δεσμευμενες συνεδριες|sessoes com interacao|sesiuni cu implicare",
    ),
    _column(
        "single_page_sessions",
        "count",
        "bounces|bounced sessions|single page visits|single page sessions|absprunge|rebonds|rebotes|einzelseitenbesuche",
    ),
    _column(
        "engaged_share",
        "number",
        "engagement rate|engaged share|rate of engagement|interaktionsrate|engagement quote|taux d engagement|porcentaje de interaccion",
    ),
    _column(
        "single_page_share", "number", "bounce rate|single page rate|absprungrate|taux de rebond|porcentaje de rebote|frequenza di rimbalzo"
    ),
    _column(
        "seconds_each",
        "number",
        "seconds per session|average time|avg time|time per session|average engagement time|time per visit|mittlere verweildauer|duree moyenne|average visit duration|sitzungsdauer|mittlere sitzungsdauer|durchschnittliche sitzungsdauer|duree moyenne des sessions|duree de session|duracion media de la sesion|duracao media da sessao|durata media sessione|gemiddelde sessieduur|genomsnittlig sessionslangd|average session duration",
    ),
    _column(
        "engagement_seconds",
        "number",
        "engagement seconds|seconds|engagement time|time on page|total seconds|verweildauer|verweildauer gesamt|sekunden|dauer|duree|duration|tiempo|durata|tijd",
    ),
    _column(
        "users",
        "count",
        "users|visitors|nutzer|besucher|utilisateurs|visiteurs|usuarios|utenti|gebruikers|anvandare|visitatori|visitantes|bezoekers|besokare|besogende|brugere|besokende|brukere|utilizadores|uzytkownicy|odwiedzajacy|uzivatele|navstevnici|kayttajat|kavijat|felhasznalok|latogatok|utilizatori|vizitatori|kullanicilar|ziyaretciler|пользователи|посетители|ユーザー|ユーザー数|訪問者|訪問者数|用户|用户数|访客|访客数|사용자|사용자수|방문자|방문자수|χρηστες|επισκεπτες|потребители|посетител",
    ),
    _column(
        "views",
        "count",
        "views|page views|seitenaufrufe|aufrufe|pages vues|vues|vistas|visualizaciones|visualizzazioni|weergaven|seitenansichten|seitenabrufe|paginas vistas|vistas de pagina|pagine viste|visualizzazioni di pagina|paginaweergaven|visualizacoes|visualizacoes de pagina|sidvisningar|sidevisninger|odslony|wyswietlenia strony|wyswietlenia stron|zobrazeni stranek|zobrazeni stranky|sivun katselut|sivulataukset|sivunaytot|oldalmegtekintesek|oldalletoltesek|afisari de pagina|vizualizari|vizualizari de pagina|sayfa goruntuleme|sayfa goruntulemeleri|просмотры|просмотры страниц|просмотры страницы|ページビュー|ページビュー数|閲覧数|pv|pvs|浏览量|页面浏览量|浏览次数|页面浏览次数|페이지뷰|페이지뷰수|조회수|προβολες σελιδας|προβολες σελιδων|преглеждания",
    ),
    _column(
        "conversions",
        "number",
        "conversions|conversion|goals|goal|orders|applications|trials|trials started|subscriptions|donations|demo requests|form submissions|submissions|order|leads|purchases|transactions|enquiries|inquiries|bookings|sign ups|signups|registrations|contacts|completions|abschlusse|konversionen|bestellungen|anfragen|buchungen|anmeldungen|conversions total|conversiones|pedidos|compras|reservas|conversoes|conversioni|ordini|acquisti|prenotazioni|conversies|bestelling|bestellingen|aankopen|commandes|achats|reservations|inscriptions|objectifs|konverteringar|konverteringer|konwersje|zamowienia|bestallningar|kop|donusumler|siparisler|전환|전환수|μετατροπες|παραγγελιες|konverze|objednavky|konversiot|konverziok|conversii|コンバージョン|成約|转化|конверсии|заказы",
    ),
    _column(
        "revenue",
        "number",
        "revenue|sales|turnover|value|umsatz|erlos|chiffre affaires|revenu|ingresos|ventas|ricavi|fatturato|omzet|intakter|przychod|entrate|chiffre d affaires|ventes|recettes|verkaufe|erlose|einnahmen|vendite|verkopen|inkomsten|przychody|indtaegter|inntekter|omsattning|omsaetning|omsetning|forsaljning|vendas|売上|売上高|销售额|매출액|продажи|приходи|収益|收入|доход|receita|faturamento|gelir|ciro|수익|매출|εσοδα|trzby|prijmy|liikevaihto|tulot|myynti|bevetel|venituri|выручка",
    ),
]

TITLE = _column(
    "title",
    "text",
    "title|page title|headline|titel|schlagzeile|seitentitel|titre|titulo|titolo|tytul|タイトル|标题|заголовок|baslik|제목|τιτλος|titulek|nazev|otsikko|cimsor|titlu",
)

CRAWL = [
    _column(
        "page",
        "address",
        PAGE_WORDS
        + "|old url|old address|old page|old path|alte adresse|alte url|ancienne adresse|ancienne url|url antigua|vecchio url|oude url",
        required=True,
    ),
    _column(
        "status",
        "count",
        "status|http status|http code|status code|http|ステータス|ステータスコード|response|code|antwort|statuscode|statut|estado|codigo|codigo de status|codigo de estado|stato|kod statusu|statuskod|durum kodu|durum|상태 코드|κωδικος καταστασης|stavovy kod|tilakoodi|tila|allapotkod|cod de stare|код ответа|код состояния|状态码",
    ),
    _column(
        "redirect_to",
        "address",
        "redirect|redirect to|new url|new address|new page|new path|neue adresse|neue url|nouvelle adresse|nouvelle url|nueva url|nueva direccion|nuovo url|nieuwe url|leads to|goes to|redirected to|redirect url|redirect target|weiterleitung|weiterleitungsziel|weitergeleitet nach|redirection|redirige vers|redirigee vers|redirige a|redirigido a|"
        "redireccion|redirecionado para|reindirizzamento|reindirizzata a|reindirizza a|omgeleid naar|doorverwijzing|omdirigerad till|omdirigeret til|przekierowanie|przekierowany na|リダイレクト先|重定向|перенаправление|destination",
    ),
    _column(
        "canonical",
        "address",
        "canonical|canonical link|canonical address|canonical url|kanonisch|kanonische adresse|canonique|adresse canonique|canonica|canonico|kanoniek|canoniek|canonieke url|canoniek adres|kanonisk|kanoniczny|kanoniczna|正規|规范|канонический|canonica|standart url|standart adres|표준 url|표준 주소|κανονικη διευθυνση|kanonicka adresa|kanonicka url|канонический url|канонический адрес",
    ),
    _column(
        "parent",
        "address",
        "parent|parent page|parent address|page above|breadcrumb parent|breadcrumb|ubergeordnete seite|elternseite|page parente|page parent|pagina superior|pagina padre|"
        "pagina pai|pagina genitore|bovenliggende pagina|overordnet side|overordnad sida|strona nadrzedna",
    ),
    _column(
        "trail",
        "text",
        "breadcrumbs|breadcrumb|breadcrumb trail|breadcrumb path|breadcrumb text|trail|brotkrumen|brotkrumenpfad|brotkrumennavigation|navigationspfad|fil d ariane|"
        "chemin de navigation|migas de pan|ruta de navegacion|briciole di pane|percorso di navigazione|kruimelpad|brodsmulor|brodsmulesti|okruszki|パンくずリスト|面包屑|хлебные крошки",
    ),
    _column(
        "noindex",
        "flag",
        "robots|noindex|no index|meta robots|robots directive|indexable|indexability|indexierbar|indexierbarkeit|indexation|indexabilite|indexacion|indexabilidad|may be indexed|can be indexed|must not be indexed|not to be indexed|allowed in the index|darf in den index|"
        "indicizzabile|indexeerbaar|indexerbar|indeksowalna|indexavel|excluded from the index|"
        "インデックス可能|インデックス|可索引|индексируется|dizine eklenebilir|색인 가능|ευρετηριασιμη|indexovatelne|indexovatelna|indeksoitava|indeksoitavissa|indexelheto|indexabil",
    ),
    _column("noindex_for", "text", "noindex for|noindex agents|kept from|robots kept out|noindex fur|noindex pour"),
    _column(
        "index_state",
        "text",
        "index state|index status|in the index|state in the index|indexed|indexstatus|im index|etat dans l index|estado en el indice",
    ),
    TITLE,
    _column(
        "media",
        "text",
        "content type|media type|mime type|type of content|inhaltstyp|medientyp|type de contenu|tipo de contenido|tipo di contenuto",
    ),
    _column("description", "text", "description|summary|meta description|beschreibung|descripcion|descrizione"),
    _column(
        "h1",
        "text",
        "main heading|h1|h1 1|heading 1|first heading|見出し1|見出し 1|一级标题|заголовок h1|rubrik 1|otsikko 1|titolo 1|kop 1|naglowek 1|baslik 1|hauptuberschrift|titre principal|encabezado",
    ),
    _column("headings", "text", "headings|subheadings|h2|other headings|zwischenuberschriften|uberschriften|sous titres"),
    _column(
        "words",
        "count",
        "words|word count|worter|wortzahl|mots|nombre de mots|palabras|numero de palabras|palavras|parole|woorden|ord|kelime sayisi|단어 수|λεξεις|pocet slov|sanat|szavak|cuvinte|слов|количество слов|字数|文字数|単語数|wortanzahl|anzahl worter|anzahl der worter|numero di parole|numero de palavras|aantal woorden|antal ord|liczba slow|sanoja|sanamaara",
    ),
    _column("text", "text", "text|body|content|inhalt|contenu|texto|testo"),
    _column(
        "crawled",
        "date",
        "crawled|crawled on|crawl date|date of crawl|visited on|fetched on|checked on|gecrawlt am|abgerufen am|date de crawl|date du crawl|fecha de rastreo|data di scansione",
    ),
    _column("language", "text", "language|lang|sprache|langue|idioma|lingua|taal"),
    _column(
        "inlinks",
        "count",
        "internal links in|inlinks|unique inlinks|links in|unique links in|incoming links|eingehende links|liens entrants|enlaces entrantes|interne links|liens internes|enlaces internos|link interni|link in entrata|binnenkomende links|入站链接|входящие ссылки|inlankar|linki przychodzace|gelen baglantilar|links to it|links to this page",
    ),
    _column(
        "outlinks",
        "count",
        "internal links out|outlinks|links out|outgoing links|ausgehende links|liens sortants|enlaces salientes|link in uscita|uitgaande links|utgaende lankar",
    ),
    _column(
        "depth",
        "count",
        "depth|level|clicks from home|tiefe|ebene|profondeur|profundidad|klicktiefe|seitentiefe|klicks von der startseite|profondeur de clic|profundidad de clics|profondita|diepte|klikdiepte|djup|dybde|glebokosc",
    ),
    _column("published", "date", PUBLISHED_WORDS),
    _column("modified", "date", "modified|last changed|updated|last modified|geandert|zuletzt geandert|modifie|modificado"),
    _column("in_sitemap", "flag", "in sitemap|sitemap"),
    _column("state", "text", STATE_WORDS),
]

EDITORIAL = [
    _column("page", "address", PAGE_WORDS, required=True),
    _column("slug", "text", SLUG_WORDS),
    TITLE,
    _column("state", "text", STATE_WORDS),
    _column("published", "date", PUBLISHED_WORDS),
    _column(
        "updated",
        "date",
        "updated|last updated|last update|reviewed|aktualisiert|mis a jour|actualizado|actualizada|actualizado el|atualizado em|atualizada em|ultima atualizacao|aggiornato|aggiornato il|bijgewerkt|uppdaterad|opdateret|zaktualizowano|guncelleme|guncellendi|업데이트|수정일|ενημερωση|ενημερωθηκε|aktualizovano|paivitetty|frissitve|actualizat|обновлено|обновлена|更新日|更新时间|modified|last modified|last changed|zuletzt geandert|geandert am|letzte anderung|modifie le|modifiee le|date de modification|derniere modification|modificado|modificado el|fecha de modificacion|ultima modificacion|modificato il|ultima modifica|data di modifica|gewijzigd|gewijzigd op|laatst gewijzigd|senast andrad|andret|zmodyfikowano|最終更新日|изменено",
    ),
    _column(
        "target_query",
        "text",
        "target query|target queries|main keyword|main keywords|primary keyword|target keyword|target keywords|meant for|intended query|focus|focus term|target term|zielbegriff|hauptthema|written for|requete cible|consulta objetivo|consulta alvo|zielsuchbegriff|zielsuchanfrage|hauptsuchbegriff|mot cle cible|mot cle principal|requete principale|palabra clave objetivo|palabra clave principal|palavra chave principal|parola chiave principale|parola chiave obiettivo|doelzoekwoord|malsokord|glowne slowo kluczowe|対策キーワード|query obiettivo|doelzoekterm|hedef sorgu|목표 검색어|cilovy dotaz|целевой запрос|目標クエリ|目标关键词",
    ),
    _column("kind", "text", "kind|content type|type|page type|art|seitentyp|format"),
    _column(
        "protected",
        "flag",
        "protected|keep|locked|do not touch|do not delete|do not remove|never delete|must stay|geschutzt|gesperrt|bleibt|behalten|nicht loschen|nicht entfernen|ne pas supprimer|ne pas toucher|no borrar|no eliminar|non eliminare|non cancellare|nao apagar|niet verwijderen|nie usuwac|protege|protegee|a garder|garder|protegido|protegida|mantener|protetto|protetta|da tenere|"
        "beschermd|behouden|skyddad|beskyttet|beskyttes|chroniony|chroniona|保護|受保护|защищено|защищена|protegida|korumali|korunuyor|보호|보호됨|προστατευμενη|chraneno|chranena|suojattu|vedett|protejat",
    ),
]

BACKLINKS = [
    _column(
        "from_url",
        "address",
        "linking page|referring page|referring url|referring page url|backlink|backlink url|linking url|from|source|source page|from address|linking address|verweisende seite|quelle|von|page source|page referente|depuis|origen|origine|desde|da|bron|van|kalla|fran|fra|zrodlo|pagina de origem|pagina de origen|baglanti veren sayfa|링크 페이지|σελιδα προελευσης|odkazujici stranka|ссылающаяся страница|источник",
        required=True,
    ),
    _column(
        "page",
        "address",
        "linked page|target|target page|target url|linked url|to|ziel|nach|cible|vers|destino|hacia|destinazione|doel|doelpagina|naar|mal|till|til|cel|"
        + PAGE_WORDS,
        required=True,
    ),
    _column(
        "anchor",
        "text",
        "link text|anchor|anchor text|words of the link|text of the link|linktext|ankertext|ancre|texto del enlace|texto ancora|baglanti metni|앵커 텍스트|κειμενο συνδεσμου|text odkazu|анкор",
    ),
    _column(
        "first_seen",
        "date",
        "first seen|seen since|found on|discovered|zuerst gesehen|vu le|vista primeiro em|primera vez|erstmals gesehen|zuerst gefunden|entdeckt am|gefunden am|first found|first detected|decouvert le|premiere detection|descubierto el|primera deteccion|prima rilevazione|eerst gezien|ilk gorulme|최초 발견|poprve nalezeno|впервые замечено",
    ),
    _column(
        "lost",
        "date",
        "lost|lost on|lost at|lost date|date lost|link lost|removed on|verloren|verloren am|perdu le|perdido el|perdido em|perso il|utracono",
    ),
    _column("visits", "count", "visits|visitors|clicks|besuche"),
]

LINKS = [
    _column(
        "source",
        "address",
        "source|from|linking page|from page|source page|quelle|von|page source|depuis|origen|origine|desde|da|bron|van|kalla|fran|fra|zrodlo|リンク元|来源|источник",
        required=True,
    ),
    _column(
        "target",
        "address",
        "target|destination|to|linked page|to page|target page|ziel|nach|cible|page cible|vers|destino|hacia|destinazione|doel|naar|mal|till|til|cel|リンク先|目标|цель",
        required=True,
    ),
    _column("anchor", "text", "anchor|anchor text|link text|words of the link|text of the link|linktext|ankertext|ancre|texto del enlace"),
    _column("follow", "flag", "follow|followed|dofollow|suivi|nofollow|no follow|rel|rel attribute|link attributes"),
    _column(
        "place",
        "text",
        "place|link place|link position|position|position on page|where on page|where in page|page area|part of page|area|region|bereich|platzierung|emplacement|zone|zona|posizione link",
    ),
    _column(
        "status",
        "count",
        "status|status code|http status|http code|response|target status|link status|antwort|statuscode|statut|estado|codigo|stato",
    ),
    _column(
        "redirect_to",
        "address",
        "redirect to|redirected to|redirect target|redirect url|leads to|goes to|weiterleitung|weitergeleitet nach|redirection|redirige a",
    ),
    _column("silent", "text", "silent|no answer because"),
]

RESULTS = [
    _column("query", "text", QUERY_WORDS, required=True),
    _column("date", "date", "date|day|datum|seen on|fecha|jour"),
    _column("rank", "count", "rank|position|place|platz|rang|posicion"),
    _column("url", "address", "url|address|result|result address|page|link|adresse"),
    _column("title", "text", "title|headline|question|text|titel|titre|titulo"),
    _column("kind", "text", "kind|type|result type|art"),
]

DEMAND = [
    _column("query", "text", QUERY_WORDS, required=True),
    _column("month", "date", "month|date|monat|mois|mes|mese|maand|datum|period|zeitraum|periode|periodo"),
    _column(
        "volume",
        "count",
        "volume|searches|demand|search volume|monthly searches|suchvolumen|suchanfragen|recherches|busquedas|monatliche suchanfragen|volume de recherche|recherches mensuelles|busquedas mensuales|volumen de busquedas|volumen de busqueda|volume di ricerca|ricerche mensili|zoekvolume|maandelijkse zoekopdrachten|sokvolym|sogevolumen|sokevolum|volume de busca|volume de pesquisa|buscas mensais|pesquisas mensais|liczba wyszukiwan|miesieczna liczba wyszukiwan|objem vyhledavani|hledanost|hakumaara|hakuvolyymi|keresesi volumen|volum de cautare|arama hacmi|частотность|частота|検索ボリューム|検索数|月間検索数|搜索量|月搜索量|검색량|월간 검색량|ογκος αναζητησεων",
        required=True,
    ),
]

HITS = [
    _column(
        "time",
        "date",
        "time|timestamp|date|datetime|when|zeit|zeitpunkt|uhrzeit|heure|horodatage|hora|fecha|ora|tijd|tijdstip|tid|czas|時刻|时间|время",
        required=True,
    ),
    _column("path", "address", "path|url|uri|request|request path|pfad|chemin|ruta|percorso|pad|sti|sciezka|address", required=True),
    HOST,
    _column("status", "count", "status|status code|code|response"),
    _column("agent", "text", "agent|user agent|useragent|client|browser"),
    _column("referrer", "text", "referrer|referer|from"),
]

EVENTS = [
    DATE,
    HOST,
    _column("page", "address", PAGE_WORDS, required=True),
    _column(
        "event",
        "text",
        "event|event name|name of event|ereignis|ereignisname|evenement|nom evenement|evento|nombre evento|nome evento|gebeurtenis|handelse|haendelse|hendelse|zdarzenie|イベント名|イベント|事件|事件名称|событие",
        required=True,
    ),
    _column(
        "count",
        "count",
        "event count|count|events|times|total events|number|number of events|anzahl|anzahl der ereignisse|ereignisse|nombre|nombre evenements|evenements|numero|recuento|eventos|conteggio|eventi|aantal|antal|antall|liczba|イベント数|事件数|количество",
        required=True,
    ),
]

VITALS = [
    _column("page", "address", PAGE_WORDS),
    _column("group", "text", "group|pattern|page group|url group|gruppe|seitengruppe|groupe|grupo|gruppo"),
    _column("month", "date", "month|date|period|week|monat|mois|mes|mese|datum|fecha"),
    _column("form_factor", "text", "form factor|device|device type|gerat|geratetyp|appareil|dispositivo"),
    _column("loading", "number", "largest contentful paint|lcp|loading|loading time|ladezeit|chargement|carga"),
    _column("responding", "number", "interaction to next paint|inp|responding|response to input|reaktionszeit|reactivite"),
    _column("shifting", "number", "cumulative layout shift|cls|shifting|layout shift"),
    _column("samples", "count", "samples|visits measured|page loads|measurements|messungen|mesures|muestras"),
]

SITEMAP = [
    _column("page", "address", PAGE_WORDS + "|loc", required=True),
    _column("modified", "date", "modified|lastmod|last modified|last changed"),
]

ROBOTS = [
    _column("agent", "text", "agent", required=True),
    _column("rule", "text", "rule", required=True),
    _column("pattern", "text", "pattern"),
]

TABLES: dict[str, list[Column]] = {
    "search": SEARCH,
    "landings": LANDINGS,
    "crawl": CRAWL,
    "links": LINKS,
    "backlinks": BACKLINKS,
    "results": RESULTS,
    "demand": DEMAND,
    "editorial": EDITORIAL,
    "hits": HITS,
    "events": EVENTS,
    "vitals": VITALS,
    "sitemap": SITEMAP,
    "robots": ROBOTS,
}

#: the columns of each kind that hold an address of this site
ADDRESSES: dict[str, tuple[str, ...]] = {
    "search": ("page",),
    "landings": ("page",),
    "crawl": ("page",),
    "links": ("source", "target"),
    "backlinks": ("page",),
    "editorial": ("page",),
    "hits": ("path",),
    "events": ("page",),
    "vitals": ("page",),
    "sitemap": ("page",),
}

#: durations, which are also written as 1:05 or 1m 05s
TIMES = ("seconds_each", "engagement_seconds")

#: measures that must balance, by kind of source
MEASURES: dict[str, list[str]] = {
    "search": ["clicks", "impressions"],
    "landings": ["sessions", "engaged_sessions", "single_page_sessions", "engagement_seconds", "users", "views", "conversions", "revenue"],
}

#: dimensions of rows of one page and day, by kind of source; for search, those of segments of searchers
DIMENSIONS: dict[str, tuple[str, ...]] = {
    "search": ("query", "country", "device", "surface"),
    "landings": ("channel", "source", "medium", "device", "country"),
}
SPLIT_BY = ("device", "country", "surface")

#: kinds whose rows count events of certain days, which must be known
COUNTED = (*MEASURES, "events")
