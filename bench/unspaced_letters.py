"""Makes letters to a garden in Japanese and Chinese, for what depends on scripts without spaces."""

import random
from dataclasses import dataclass


@dataclass(frozen=True)
class Bank:
    """Phrases by topic, and those that any letter may have."""

    topics: dict[str, list[str]]
    courtesies: list[str]


JAPANESE = Bank(
    topics={
        "pests": [
            "バラの葉にアブラムシがたくさん付いています",
            "夜になるとナメクジがレタスを食べてしまいます",
            "毛虫が桜の枝に巣を作りました",
            "コナジラミが温室の中を飛び回っています",
            "葉の裏に小さな赤いダニが見えます",
            "ハチのような虫が幹に穴を開けました",
            "カタツムリがホスタの新芽をかじります",
            "白い綿のような虫が枝にびっしり付いています",
        ],
        "soil": [
            "庭の土が粘土質で水はけが悪いです",
            "堆肥をどのくらい混ぜればよいでしょうか",
            "土が酸性なので石灰をまくべきですか",
            "腐葉土と砂を混ぜて花壇を作りたいです",
            "春に肥料を入れても野菜がよく育ちません",
            "雨のあと土の表面が固くなります",
            "鉢の用土を新しくしたいと思います",
            "落ち葉で作った堆肥が臭います",
        ],
        "watering": [
            "夏の間は毎日水をやるべきでしょうか",
            "鉢植えの紫陽花がすぐに乾いてしまいます",
            "水をやりすぎて根が腐ったようです",
            "留守の間の水やりをどうすればよいですか",
            "雨水をためる桶を置きたいです",
            "朝と夕方のどちらに水をまくのがよいですか",
            "芝生が乾いて茶色になりました",
            "ホースの水が冷たすぎるのではないでしょうか",
        ],
        "bookings": [
            "来月の見学会に四人で申し込みたいです",
            "温室の案内は何時から始まりますか",
            "団体の入園料を教えてください",
            "講習会の席はまだ空いていますか",
            "駐車場は予約が必要でしょうか",
            "子ども会で庭園を訪ねたいと思います",
            "土曜日の茶会を取り消したいのですが",
            "春の苗の交換会に参加できますか",
        ],
        "diseases": [
            "葉に黒い斑点が広がっています",
            "うどんこ病のような白い粉が付きました",
            "梨の実が木の上で腐ってしまいます",
            "トマトの茎が黒くなって枯れました",
            "松の枝先が赤く枯れてきました",
            "葉が黄色くなって落ちてしまいます",
            "根元にきのこが生えてきました",
            "さび病の薬はいつ使えばよいですか",
        ],
    },
    courtesies=[
        "拝啓",
        "いつもお世話になっております",
        "先週から",
        "祖母から受け継いだ庭のことです",
        "写真を二枚添えます",
        "どうすればよいか教えてください",
        "お返事をお待ちしています",
        "冬が暖かかったせいでしょうか",
        "近所の人も同じことを言っています",
        "去年は何もありませんでした",
        "小さな庭ですが大切にしています",
        "よろしくお願いいたします",
        "水や土や葉を調べてみました",
        "園の皆様によろしくお伝えください",
    ],
)
CHINESE = Bank(
    topics={
        "pests": [
            "月季的叶子上长满了蚜虫",
            "夜里蛞蝓把生菜都吃光了",
            "毛毛虫在樱花树上结了网",
            "温室里到处飞着白粉虱",
            "叶子背面有红色的小螨虫",
            "有一种像蜂的虫子在树干上打洞",
            "蜗牛咬坏了玉簪的嫩芽",
            "树枝上粘满了像棉花一样的白虫",
        ],
        "soil": [
            "花园的土是黏土排水很差",
            "应该掺多少堆肥才合适",
            "土壤偏酸要不要撒石灰",
            "想用腐叶土和沙子做一个花坛",
            "春天施了肥蔬菜还是长不好",
            "下雨以后土面就变硬了",
            "想给花盆换新的营养土",
            "落叶做的堆肥有臭味",
        ],
        "watering": [
            "夏天是不是每天都要浇水",
            "盆里的绣球很快就干了",
            "浇水太多根好像烂了",
            "出门的时候谁来浇水呢",
            "想放一个水桶接雨水",
            "早上浇水好还是傍晚浇水好",
            "草坪干得发黄了",
            "水管里的水会不会太凉",
        ],
        "bookings": [
            "想报名参加下个月的参观四个人",
            "温室的讲解几点开始",
            "请告诉我团体门票的价格",
            "讲座还有空位吗",
            "停车场需要预约吗",
            "想带孩子们来参观花园",
            "想取消星期六的茶会",
            "可以参加春天的换苗会吗",
        ],
        "diseases": [
            "叶子上的黑斑越来越多",
            "枝叶上长了白粉一样的东西",
            "梨子在树上就烂掉了",
            "番茄的茎变黑枯死了",
            "松树的枝头变红干枯",
            "叶子发黄然后掉落",
            "树根旁边长出了蘑菇",
            "锈病的药什么时候用好",
        ],
    },
    courtesies=[
        "您好",
        "一直承蒙关照",
        "从上个星期开始",
        "这是祖母留下的花园",
        "附上两张照片",
        "请告诉我该怎么办",
        "期待您的回复",
        "是不是冬天太暖和了",
        "邻居也说有同样的情况",
        "去年什么问题都没有",
        "花园虽小但是很珍惜",
        "谢谢您的帮助",
        "看过了水土壤和叶子",
        "请代向园里的各位问好",
    ],
)


def letters(bank: Bank, count: int, seed: int = 7) -> list[tuple[str, str]]:
    """Texts and their topics: courtesies around a phrase or two with letters missing, a line end anywhere, a few topics wrong."""
    generator = random.Random(seed)
    made = []
    for _ in range(count):
        topic = generator.choice(list(bank.topics))
        parts = generator.sample(bank.courtesies, generator.randint(2, 4))
        phrases = [generator.choice(bank.topics[topic])]
        if generator.random() < 0.35:
            phrases.append(generator.choice(bank.topics[generator.choice(list(bank.topics))]))
        parts[1:1] = [_worn(phrase, generator) for phrase in phrases]
        text = "。".join(parts) + "。"
        if generator.random() < 0.3:
            place = generator.randrange(2, len(text) - 2)
            text = f"{text[:place]}\n{text[place:]}"
        made.append((text, topic if generator.random() > 0.03 else generator.choice(list(bank.topics))))
    return made


def _worn(phrase: str, generator: random.Random) -> str:
    if generator.random() >= 0.6 or len(phrase) <= 8:
        return phrase
    begin = generator.randrange(0, len(phrase) - 4)
    return phrase[:begin] + phrase[begin + generator.randint(2, 5) :]
